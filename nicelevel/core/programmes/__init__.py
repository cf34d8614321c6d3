"""Several programmes in one file: which channels belong together and what they are called, put into a file and found
in one, joined and split without touching a sample.
"""

from .found import Programmes, programmes_of
from .in_step import PartError
from .joining import Joined, join
from .measuring import measure_programme
from .programme import Programme, programmes_of_map
from .splitting import Split, split

__all__ = [
    "Joined",
    "PartError",
    "Programme",
    "Programmes",
    "Split",
    "join",
    "measure_programme",
    "programmes_of",
    "programmes_of_map",
    "split",
]
