"""From a source to the signal that is levelled, measured: what its destination asks for is done to it before."""

from .for_output import recipe_for
from .measured import Measured, MeasuredOf, prepare
from .workshop import Workshop

__all__ = ["Measured", "MeasuredOf", "Workshop", "prepare", "recipe_for"]
