"""From a plan to a written file, in the fixed order: level, dither, encoding."""

from .pipeline import render, rendered_piece

__all__ = ["render", "rendered_piece"]
