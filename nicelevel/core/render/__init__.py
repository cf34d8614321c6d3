"""From a plan to a written file, in the fixed order: level, dither, encoding."""

from .pipeline import render

__all__ = ["render"]
