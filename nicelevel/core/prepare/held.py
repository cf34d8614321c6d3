"""How whole-number audio is held once it is resampled: in whole steps of 2^-27, with 24 dB of room over full scale.

Half a step is what a resampler of 28 bits leaves undecided; its noise, at -173 dBFS, is 24 dB under that of 24 bits
without dither, and 29 dB under it with TPDF dither. It takes half the memory of 64-bit floating point, so a song that
was resampled to be measured can be kept until it is written. Floating-point audio stays what it is: its level may be
anything.
"""

from collections.abc import Iterator

import numpy as np
from numpy.typing import NDArray

from ..files.blocks import Block
from ..files.codes import HELD
from ..kernels import Floats, Integers, vectorised
from ..values import Preparation, Source

STEP = HELD.scale
_STEPS = 1.0 / STEP
_HIGHEST = float(np.iinfo(HELD.dtype).max)


Codes = NDArray[np.int32] | NDArray[np.float64]
"""Frames × channels: numbers of steps, or samples."""


class Kept:
    """A prepared signal in memory."""

    def __init__(self, codes: Codes) -> None:
        self.codes = codes

    def blocks(self, frames: int) -> Iterator[Block]:
        """All of it, ±1.0 at full scale. Where it ends early, the rest is to be made again."""
        for first in range(0, len(self.codes), frames):
            yield samples_of(self.codes[first : first + frames])


class PastRangeError(Exception):
    """A sample lies more than 24 dB over full scale: the signal cannot be kept as whole numbers."""


def is_in_steps(source: Source, preparation: Preparation) -> bool:
    """Whether a prepared signal is rounded to steps: then it is the same whether it was kept or is made again."""
    return source.bits_declared is not None and preparation.sample_rate_hz is not None


def steps_of(samples: Floats) -> NDArray[np.int32]:
    """The numbers of steps of one channel. Raises PastRangeError."""
    steps = np.empty(len(samples), np.int32)
    if round_to_steps(np.ascontiguousarray(samples, np.float64), steps):
        raise PastRangeError
    return steps


def in_steps(block: Block) -> NDArray[np.float64]:
    """The same rounding for any value, as samples, ±1.0 at full scale."""
    samples: NDArray[np.float64] = np.multiply(block, _STEPS, order="C", dtype=np.float64)
    samples += 0.5
    np.floor(samples, out=samples)
    samples *= STEP
    return samples


def samples_of(codes: Codes) -> NDArray[np.float64]:
    """What was kept, ±1.0 at full scale: exact, for a step is a power of two."""
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
