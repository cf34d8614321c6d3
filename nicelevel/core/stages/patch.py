"""Samples mended by what was found of them: a constant of each channel taken away."""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ..files.blocks import Block
from ..signals import Derived, Signal
from ..values import Shape
from .stage import InPlace


@dataclass(frozen=True)
class Patch(InPlace):
    """added: to every sample of each channel."""

    before: Shape
    added: tuple[float, ...]

    @property
    def after(self) -> Shape:
        return self.before

    def on(self, before: Signal) -> Signal:
        return _Patched(before, self.added)


class _Patched(Derived):
    def __init__(self, before: Signal, added: Sequence[float]) -> None:
        super().__init__(before, before.shape)
        self._added = np.array(added)

    def blocks(self, frames: int) -> Iterator[Block]:
        return map(self._patched, self.before.blocks(frames))

    def window(self, first: int, last: int) -> Block:
        return self._patched(self.before.window(first, last))

    def only(self, channels: Sequence[int]) -> "_Patched":
        return _Patched(self.before.only(channels), self._added[list(channels)].tolist())

    def _patched(self, block: Block) -> Block:
        patched: NDArray[np.float64] = block.astype(np.float64) + self._added
        return patched
