"""Opening and describing files, yielding their blocks, writing one whole or not at all."""

from .read import Audio, take_in
from .write import StagedFile, open_sink

__all__ = ["Audio", "StagedFile", "open_sink", "take_in"]
