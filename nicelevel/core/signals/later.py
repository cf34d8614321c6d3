"""A signal from some frame on."""

from collections.abc import Iterator, Sequence
from dataclasses import replace
from typing import Any

from numpy.typing import NDArray

from ..files.blocks import Block
from ..files.codes import Coding
from .signal import Signal


class Later:
    """The same samples without the first ones."""

    def __init__(self, before: Signal, first: int) -> None:
        self._before, self._first = before, first
        self.shape = replace(before.shape, frames=before.shape.frames - first)

    @property
    def coding(self) -> Coding:
        return self._before.coding

    def blocks(self, frames: int) -> Iterator[Block]:
        return self._without_first(self._before.blocks(frames))

    def code_blocks(self, frames: int) -> Iterator[NDArray[Any]]:
        return self._without_first(self._before.code_blocks(frames))

    def window(self, first: int, last: int) -> Block:
        return self._before.window(self._first + first, self._first + last)

    def only(self, channels: Sequence[int]) -> "Later":
        return Later(self._before.only(channels), self._first)

    def _without_first(self, blocks: Iterator[NDArray[Any]]) -> Iterator[NDArray[Any]]:
        left = self._first
        for block in blocks:
            if left < len(block):
                yield block[left:]
            left = max(0, left - len(block))
