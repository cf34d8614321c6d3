"""What is known of every 10 ms of a signal: enough for a first guess at what a step finds, without its audio."""

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ..stages import Edit, Ride, Stage
from ..values import Reading

HOPS_PER_SECOND = 100

Floats = NDArray[np.float64]


@dataclass(frozen=True)
class Hops:
    """peaks: highest sample; squares: mean square; energies: K-weighted; means: of each channel, over all of it."""

    rate_hz: int
    peaks: Floats
    squares: Floats
    energies: Floats
    means: tuple[float, ...]

    @classmethod
    def of(cls, reading: Reading) -> "Hops":
        """Of what was measured."""
        curves, count = reading.curves, len(reading.curves.energies)
        peaks, squares = (np.asarray(each[:count], np.float64) for each in (curves.peaks, curves.squares))
        return cls(reading.source.sample_rate_hz, peaks, squares, curves.energies, reading.dc_offset)

    def frame(self, hop: int) -> int:
        """The first frame of a hop."""
        return hop * self.rate_hz // HOPS_PER_SECOND

    def after(self, stage: Stage) -> "Hops":
        """What a stage makes of them, as far as they tell it: edits and rides; what else there is leaves them."""
        if isinstance(stage, Edit):
            return self._edited(stage)
        if isinstance(stage, Ride):
            return self._ridden(stage)
        return self

    def _edited(self, edit: Edit) -> "Hops":
        count = -(-edit.frames * HOPS_PER_SECOND // self.rate_hz)
        kept = np.full(count, -1)
        for each in edit.stretches:
            at, first = (frames * HOPS_PER_SECOND // self.rate_hz for frames in (each.at, each.first))
            length = max(
                0, min(-(-each.frames * HOPS_PER_SECOND // self.rate_hz), count - at, len(self.peaks) - first)
            )
            kept[at : at + length] = np.arange(first, first + length)
        return self._each(lambda values: np.where(kept >= 0, values[np.maximum(kept, 0)], 0.0))

    def _ridden(self, ride: Ride) -> "Hops":
        gains = ride.curve.at(np.arange(len(self.peaks)) * self.rate_hz // HOPS_PER_SECOND)
        return Hops(self.rate_hz, self.peaks * gains, self.squares * gains**2, self.energies * gains**2, self.means)

    def _each(self, change: Callable[[Floats], Floats]) -> "Hops":
        if not len(self.peaks):
            return self
        return Hops(self.rate_hz, change(self.peaks), change(self.squares), change(self.energies), self.means)
