"""A signal in memory."""

from collections.abc import Iterator, Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ..files.blocks import Block
from ..files.codes import DOUBLE, HELD, Coding
from ..files.selected import Selected
from ..values import Shape
from .grid import OnGrid, samples_of
from .signal import Signal

Codes = NDArray[np.int32] | NDArray[np.float64]
"""Frames × channels: numbers of steps of the grid, or samples."""


class Kept:
    """What was computed of a signal, so that it need not be computed again.

    codes: frames × channels in a coding that is HELD or DOUBLE.
    """

    def __init__(self, shape: Shape, codes: Codes) -> None:
        self.shape, self.codes = shape, codes

    @property
    def coding(self) -> Coding:
        return HELD if self.codes.dtype == HELD.dtype else DOUBLE

    def blocks(self, frames: int) -> Iterator[Block]:
        """All of it, ±1.0 at full scale. Where it ends early, the rest is to be made again."""
        return map(samples_of, self.code_blocks(frames))

    def code_blocks(self, frames: int) -> Iterator[NDArray[Any]]:
        for first in range(0, len(self.codes), frames):
            yield self.codes[first : first + frames]

    def window(self, first: int, last: int) -> Block:
        return samples_of(self.codes[first:last])

    def only(self, channels: Sequence[int]) -> Signal:
        return Selected(self, channels)


def coding_to_keep(signal: Signal) -> Coding:
    """How a signal is kept: on the grid where it lies on it, else in floating point."""
    return HELD if signal.coding == HELD else DOUBLE


def empty_codes(shape: Shape, coding: Coding) -> Codes:
    """Room for a signal."""
    codes: Codes = np.empty((shape.frames, shape.channels), coding.dtype)
    return codes


def bytes_of(shape: Shape, coding: Coding) -> int:
    """What a signal takes in memory."""
    return shape.frames * shape.channels * coding.item_bytes


def coded_blocks(signal: Signal, coding: Coding, frames: int, codes: Codes | None = None) -> Iterator[NDArray[Any]]:
    """A signal in a coding that it can be kept in, put into its room on the way where there is one.

    Raises PastRangeError where whole numbers do not reach.
    """
    if coding.is_whole:
        on_grid = signal if isinstance(signal, OnGrid | Kept) else OnGrid(signal)
        if codes is not None and isinstance(on_grid, OnGrid):
            return on_grid.into(codes, frames)
        return on_grid.code_blocks(frames)
    blocks = signal.blocks(frames)
    return blocks if codes is None else _filling(blocks, codes)


def _filling(blocks: Iterator[Block], codes: Codes) -> Iterator[NDArray[Any]]:
    done = 0
    for block in blocks:
        room: NDArray[Any] = codes[done : done + len(block)]
        room[:] = block
        yield room
        done += len(block)
