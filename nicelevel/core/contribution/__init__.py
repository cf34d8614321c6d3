"""A programme for a broadcaster: mixes side by side in one file that also says when it begins, at which frame rate,
what each mix measures, and how long the silence before it is.
"""

from .contribute import Contributed, Wanted, contribute
from .timecode import FRAME_RATES, FrameRate
from .told import Told, told_by

__all__ = ["FRAME_RATES", "Contributed", "FrameRate", "Told", "Wanted", "contribute", "told_by"]
