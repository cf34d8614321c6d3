"""Some channels turned by 90 degrees at all frequencies, none of them later than before."""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from functools import lru_cache
from itertools import chain
from typing import ClassVar

import numpy as np
from numpy.typing import NDArray
from scipy.signal import oaconvolve

from ..files.blocks import Block
from ..signals import Derived, Signal
from ..values import Shape
from .stage import InPlace

REACH_S = 0.085
"""So far before and after a frame the filter hears: what lies under 30 Hz comes out weaker."""

TAPER_BETA = 8.0
"""Kaiser's window: ripples of 0.001 dB."""


@dataclass(frozen=True)
class Turn(InPlace):
    """turned: channels by number from 0; each of their tones comes a quarter of a period later."""

    before: Shape
    turned: tuple[int, ...]
    is_exact: ClassVar[bool] = False

    @property
    def after(self) -> Shape:
        return self.before

    def on(self, before: Signal) -> Signal:
        return _Turned(before, self.turned)


@lru_cache(maxsize=16)
def quarter_turn(rate_hz: int) -> NDArray[np.float64]:
    """The taps of a Hilbert transformer, from as long before a frame to as long after it."""
    reach = max(15, round(REACH_S * rate_hz)) | 1
    places = np.arange(-reach, reach + 1)
    taps = np.zeros(len(places))
    odd = places % 2 != 0
    taps[odd] = 2.0 / (np.pi * places[odd])
    tapered: NDArray[np.float64] = taps * np.kaiser(len(taps), TAPER_BETA)
    return tapered


class _Turned(Derived):
    def __init__(self, before: Signal, turned: Sequence[int]) -> None:
        super().__init__(before, before.shape)
        self._turned, self._taps = tuple(turned), quarter_turn(before.shape.rate_hz)
        self._reach = len(self._taps) // 2

    def only(self, channels: Sequence[int]) -> "_Turned":
        turned = [at for at, number in enumerate(channels) if number in self._turned]
        return _Turned(self.before.only(channels), turned)

    def blocks(self, frames: int) -> Iterator[Block]:
        """Made once what comes after them is there."""
        silence, left = np.zeros((self._reach, self.shape.channels)), self.shape.frames
        held = silence
        for block in chain(self.before.blocks(frames), (silence,)):
            held = np.concatenate((held, block))
            ready = min(left, len(held) - 2 * self._reach)
            if ready > 0:
                yield self._turn(held[: ready + 2 * self._reach])
                held, left = held[ready:], left - ready

    def window(self, first: int, last: int) -> Block:
        begin, end = first - self._reach, last + self._reach
        piece = self.before.window(max(0, begin), min(self.shape.frames, end)).astype(np.float64)
        return self._turn(np.pad(piece, ((max(0, -begin), max(0, end - self.shape.frames)), (0, 0))))

    def _turn(self, held: NDArray[np.float64]) -> Block:
        """Of all but the frames that the filter hears before and after them."""
        columns = np.array(held[self._reach : len(held) - self._reach].T, np.float64, order="C")
        for number in self._turned:
            columns[number] = oaconvolve(held[:, number], self._taps, "valid")
        return columns.T
