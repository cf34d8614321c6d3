"""A level moved along a curve: fades, and what a gate, a compressor or an evening has found."""

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any, Protocol

import numpy as np
from numpy.typing import NDArray

from ..files.blocks import Block
from ..signals import Derived, Signal
from ..values import Shape
from .stage import InPlace


class Curve(Protocol):
    """A gain for every frame, known beforehand: so it can be sought and drawn, and carries no state."""

    def gains(self, first: int, last: int) -> NDArray[np.float64] | None:
        """Ratios from `first` to before `last`; None where all of them are 1."""

    def at(self, frames: NDArray[np.integer[Any]]) -> NDArray[np.float64]:
        """Ratios at some frames: enough for drawing."""


@dataclass(frozen=True)
class Ride(InPlace):
    """curve: the same for all channels."""

    before: Shape
    curve: Curve

    @property
    def after(self) -> Shape:
        return self.before

    def on(self, before: Signal) -> Signal:
        return _Ridden(before, self.curve)


class _Ridden(Derived):
    def __init__(self, before: Signal, curve: Curve) -> None:
        super().__init__(before, before.shape)
        self._curve = curve

    def blocks(self, frames: int) -> Iterator[Block]:
        done = 0
        for block in self.before.blocks(frames):
            yield self._ridden(block, done)
            done += len(block)

    def window(self, first: int, last: int) -> Block:
        return self._ridden(self.before.window(first, last), first)

    def after(self, before: Signal) -> "_Ridden":
        return _Ridden(before, self._curve)

    def _ridden(self, block: Block, first: int) -> Block:
        gains = self._curve.gains(first, first + len(block))
        if gains is None:
            return block
        columns = np.empty(block.shape[::-1])
        return np.multiply(block.T, gains, out=columns).T
