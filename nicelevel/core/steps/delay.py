"""Channels made later, by so much or until they line up with another."""

from collections.abc import Iterator
from itertools import chain
from typing import Annotated, ClassVar, Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from ..signals import Signal
from ..stages import Shift, Stage
from ..values import Shape
from ..words import figure, listed
from .hops import Hops
from .keep import Number, named_channels, refuse_missing
from .step import Found, Step

FARTHEST_S = 0.05
BLOCK_S = 1.5
"""So long are the stretches that are correlated at once."""

MOST_SAMPLES = 1 << 30


class Lags(Found):
    """For each channel that is named, in order, how many frames later it is to be; less than 0 is earlier."""

    later: tuple[int, ...] = ()


class Delay(Step):
    """channels: by number, from 1. samples: "auto" lines each up with the first channel that is not named."""

    do: Literal["delay"] = "delay"
    channels: Annotated[tuple[Number, ...], Field(max_length=128, strict=False)]
    samples: Annotated[int, Field(ge=-MOST_SAMPLES, le=MOST_SAMPLES)] | Literal["auto"]
    finds: ClassVar[type[Found] | None] = Lags

    @property
    def listens(self) -> bool:
        return self.samples == "auto"

    def find(self, before: Signal) -> Lags:
        refuse_missing(self.channels, before.shape)
        others = [number for number in range(before.shape.channels) if number + 1 not in self.channels]
        if not others or not self.channels:
            return Lags(later=(0,) * len(self.channels))
        return Lags(later=_lags(before, others[0], [number - 1 for number in self.channels]))

    def guess(self, hops: Hops) -> Lags:
        """Where it will come to lie cannot be told from 10 ms: drawn as in line."""
        return Lags(later=(0,) * len(self.channels))

    def stages(self, before: Shape, found: Found | None) -> tuple[Stage, ...]:
        refuse_missing(self.channels, before)
        later = dict(zip(self.channels, self._later(found), strict=True))
        frames = tuple(later.get(number + 1, 0) for number in range(before.channels))
        return (Shift(before, frames),) if any(frames) else ()

    def _later(self, found: Found | None) -> tuple[int, ...]:
        if self.samples != "auto":
            return (self.samples,) * len(self.channels)
        assert isinstance(found, Lags)
        return found.later

    @property
    def doing(self) -> str:
        return "moved in time"

    @property
    def wish(self) -> str:
        if self.samples == "auto":
            return f"Line {named_channels(self.channels)} up with the others."
        return f"Make {named_channels(self.channels)} later by {self.samples} samples."

    def words(self, before: Shape, found: Found | None) -> str:
        moved = zip(self.channels, self._later(found), strict=True)
        said = [f"channel {number} by {_in_words(frames, before.rate_hz)}" for number, frames in moved if frames]
        return f"Moved {listed(said)}." if said else "The channels were in line already."


def _in_words(frames: int, rate_hz: int) -> str:
    way = "later" if frames > 0 else "earlier"
    return f"{abs(frames)} samples ({figure(1000 * abs(frames) / rate_hz, 2)} ms) {way}"


def _lags(before: Signal, to: int, channels: list[int]) -> tuple[int, ...]:
    """By how many frames each channel is to be later, so that it correlates best with another; the larger the sum of
    products is in size, the better: a side that is turned over too is lined up all the same.
    """
    rate_hz = before.shape.rate_hz
    farthest, block_frames = round(FARTHEST_S * rate_hz), round(BLOCK_S * rate_hz)
    size = 1 << (block_frames + 2 * farthest - 1).bit_length()
    cross = np.zeros((len(channels), size // 2 + 1), complex)
    for wide in _overlapping(before, block_frames, farthest):
        reference, middle = np.fft.rfft(wide[:, to], size), wide[farthest : farthest + block_frames]
        for row, number in enumerate(channels):
            cross[row] += reference * np.fft.rfft(middle[:, number], size).conj()
    correlations: NDArray[np.float64] = np.abs(np.fft.irfft(cross, size)[:, : 2 * farthest + 1])
    return tuple(lag - farthest for lag in _nearest_best(correlations, farthest))


def _overlapping(before: Signal, block_frames: int, reach: int) -> Iterator[NDArray[np.float64]]:
    """Stretches that follow one another, each with so much of what lies on either side; silence past the ends."""
    silence = np.zeros((reach, before.shape.channels))
    held, left = silence, before.shape.frames
    for block in chain(before.blocks(block_frames), (silence, np.zeros((block_frames, before.shape.channels)))):
        held = np.concatenate((held, block))
        while left > 0 and len(held) >= block_frames + 2 * reach:
            yield held[: block_frames + 2 * reach]
            held, left = held[block_frames:], left - block_frames


def _nearest_best(correlations: NDArray[np.float64], middle: int) -> list[int]:
    """The lag of the largest value of each row; of equal ones the one that moves least."""
    order = np.argsort(np.abs(np.arange(correlations.shape[1]) - middle), kind="stable")
    return [int(order[int(np.argmax(row[order]))]) for row in correlations]
