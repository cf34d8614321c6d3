"""What comes into a folder by itself: taken when it is whole, worked on, published whole or not at all."""

from .line import Line, Outcome, open_line
from .settings import LineSettings
from .settling import Arrival, Settling

__all__ = ["Arrival", "Line", "LineSettings", "Outcome", "Settling", "open_line"]
