"""Steps that must listen first."""

from collections.abc import Callable, Iterator
from typing import TYPE_CHECKING

from ..ahead import ahead
from ..files.blocks import Block
from ..files.read import take_in
from ..signals import Derived, Signal
from .step import Found, Step

if TYPE_CHECKING:
    from pathlib import Path

    from .chain import Chain

FoundOf = Callable[["Chain", Step], Found]
"""Gives what a step finds in what a chain makes. Raises NotPreparedError where nobody has listened yet."""


class _Ahead(Derived):
    """The same signal, its next blocks made while the last ones are listened to."""

    def __init__(self, before: Signal) -> None:
        super().__init__(before, before.shape)

    def blocks(self, frames: int) -> Iterator[Block]:
        with ahead(self.before.blocks(frames)) as coming:
            yield from coming

    def window(self, first: int, last: int) -> Block:
        return self.before.window(first, last)

    def after(self, before: Signal) -> "_Ahead":
        return _Ahead(before)


def listen(path: "Path") -> FoundOf:
    """What steps find in a file, by listening to it now."""

    def find(chain: "Chain", step: Step) -> Found:
        with take_in(path) as audio:
            return step.find(_Ahead(chain.unrounded_on(audio)))

    return find
