"""Audio that can be asked for: all of it in blocks, or any frames of it from anywhere."""

from ..files.selected import Selected
from .grid import OnGrid, PastRangeError
from .kept import Kept
from .signal import Derived, Seekable, Signal
from .timeline import Span, Timeline

__all__ = ["Derived", "Kept", "OnGrid", "PastRangeError", "Seekable", "Selected", "Signal", "Span", "Timeline"]
