"""The level of an MP3 changed in its frames, without decoding or encoding anything, and taken back to the byte."""

from .frames import STEP_DB
from .regain import MOST_STEPS, Regained, Wish, regain

__all__ = ["MOST_STEPS", "STEP_DB", "Regained", "Wish", "regain"]
