"""Opening and describing files, yielding their blocks, writing one whole or not at all."""

from .read import Audio, take_in, take_in_beside
from .staged import StagedFile
from .write import open_sink

__all__ = ["Audio", "StagedFile", "open_sink", "take_in", "take_in_beside"]
