"""The grid that prepared whole-number audio lies on: steps of 2^-27, with 24 dB of room over full scale.

Half a step is what a resampler of 28 bits leaves undecided; its noise, at -173 dBFS, is 24 dB under that of 24 bits
without dither, and 29 dB under it with TPDF dither. It takes half the memory of 64-bit floating point, so a song that
was resampled to be measured can be kept until it is written. What a filter gives for a window differs in its last
digits from what it gives for the whole: on the grid both are the same. Floating-point audio stays what it is: its
level may be anything.
"""

from collections.abc import Iterator, Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ..files.blocks import Block
from ..files.codes import HELD
from ..kernels import Floats, Integers, vectorised
from .signal import Columns, Signal, columns_of

STEP = HELD.scale
_STEPS = 1.0 / STEP
_HIGHEST = float(np.iinfo(HELD.dtype).max)


class PastRangeError(Exception):
    """A sample lies more than 24 dB over full scale: the signal cannot be held as whole numbers."""


class OnGrid:
    """A signal rounded to the grid. `code_blocks` raises PastRangeError; `blocks` rounds any value."""

    coding = HELD

    def __init__(self, before: Signal) -> None:
        self._before, self.shape = before, before.shape

    def blocks(self, frames: int) -> Iterator[Block]:
        return map(rounded, self._before.blocks(frames))

    def code_blocks(self, frames: int) -> Iterator[NDArray[Any]]:
        return (put_codes(columns, _room_for(columns)) for columns in columns_of(self._before, frames))

    def into(self, codes: NDArray[Any], frames: int) -> Iterator[NDArray[np.int32]]:
        """The blocks of `code_blocks`, put where they are to stay."""
        done = 0
        for columns in columns_of(self._before, frames):
            yield put_codes(columns, codes[done : done + len(columns[0])])
            done += len(columns[0])

    def window(self, first: int, last: int) -> Block:
        return rounded(self._before.window(first, last))

    def only(self, channels: Sequence[int]) -> "OnGrid":
        return OnGrid(self._before.only(channels))


def _room_for(columns: Columns) -> NDArray[np.int32]:
    return np.empty((len(columns[0]), len(columns)), np.int32)


def put_codes(columns: Columns, codes: NDArray[np.int32]) -> NDArray[np.int32]:
    """Numbers of steps into their room of frames × channels, which is given back. Raises PastRangeError."""
    for channel, samples in enumerate(columns):
        steps = np.empty(len(samples), np.int32)
        if round_to_steps(np.ascontiguousarray(samples, np.float64), steps):
            raise PastRangeError
        codes[:, channel] = steps
    return codes


def rounded(block: Block) -> NDArray[np.float64]:
    """The same rounding for any value, as samples, ±1.0 at full scale."""
    samples: NDArray[np.float64] = np.multiply(block, _STEPS, order="C", dtype=np.float64)
    samples += 0.5
    np.floor(samples, out=samples)
    samples *= STEP
    return samples


def samples_of(codes: NDArray[Any]) -> NDArray[np.float64]:
    """What was held, ±1.0 at full scale: exact, for a step is a power of two."""
    if codes.dtype != HELD.dtype:
        return codes.astype(np.float64)
    samples: NDArray[np.float64] = np.multiply(codes, STEP, dtype=np.float64)
    return samples


@vectorised
def round_to_steps(samples: Floats, codes: Integers) -> int:
    """Round to the nearest steps; returns how many lie past the range, whose codes mean nothing."""
    past = 0
    for at in range(len(samples)):
        steps = np.floor(samples[at] * _STEPS + 0.5)
        past += abs(steps) > _HIGHEST
        codes[at] = np.int32(steps)
    return past
