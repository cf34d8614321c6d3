"""What every stage can be asked for."""

from typing import ClassVar, Protocol

from ..signals import Signal, Timeline
from ..signals.timeline import UNMOVED
from ..values import Shape


class Stage(Protocol):
    """Something that is done to a signal of a known shape.

    is_exact: whether a window gives the same samples as the whole to the last digit; where not, what is made is
    rounded to the grid in the end. is_selection: whether it only chooses channels.
    """

    is_exact: ClassVar[bool]

    @property
    def is_selection(self) -> bool: ...

    @property
    def after(self) -> Shape:
        """The shape of what comes of it."""

    @property
    def timeline(self) -> Timeline:
        """Where what comes in lies in what goes out."""

    def on(self, before: Signal) -> Signal:
        """What comes of a signal that has the shape this was made for, but for the choice of its channels."""


class InPlace:
    """A base for stages that move nothing in time and choose nothing."""

    is_exact: ClassVar[bool] = True
    is_selection = False
    timeline = UNMOVED
