"""Speech is evened out: passages of different level are brought together."""

from functools import lru_cache
from typing import Any, ClassVar, Literal

import numpy as np

from ..measure.gating import HOPS_PER_SECOND
from ..signals import Signal
from ..speech import Amount, Heard, even_out, listen_to
from ..stages import Ride, Stage
from ..values import Shape
from ..words import change
from .gain_points import GainPoints, PointsCurve
from .hops import Hops
from .step import Found, Step


class Even(Step):
    """amount: how near to the level of the whole each passage is brought: within 4, 2 or 1 LU."""

    do: Literal["even"] = "even"
    amount: Amount = "medium"
    version: ClassVar[int] = 2
    finds: ClassVar[type[Found] | None] = GainPoints

    def find(self, before: Signal) -> GainPoints:
        return self._points(listen_to(before), before.shape.rate_hz, before.shape.frames)

    def guess(self, hops: Hops) -> GainPoints:
        """As if all of it were speech; kept, for it is asked for with every change of the steps behind it."""
        return _guessed(self, hops.energies.tobytes(), hops.rate_hz)

    def _points(self, heard: Heard, rate_hz: int, frames: int) -> GainPoints:
        gains_db = even_out(heard, self.amount)
        step = max(1, round(rate_hz / HOPS_PER_SECOND))
        hops = np.arange(-(-frames // step) + 1) * step / rate_hz * HOPS_PER_SECOND
        # What was found is the gain at the middle of each 10 ms.
        found = len(gains_db) > 0
        return GainPoints.of(step, np.interp(hops - 0.5, np.arange(len(gains_db)), gains_db) if found else 0.0 * hops)

    def stages(self, before: Shape, found: Found | None) -> tuple[Stage, ...]:
        assert isinstance(found, GainPoints)
        return () if found.is_nothing else (Ride(before, PointsCurve(found)),)

    @property
    def doing(self) -> str:
        return "evened out"

    @property
    def wish(self) -> str:
        return f"Even out speech, {self.amount}."

    def words(self, before: Shape, found: Found | None) -> str:
        assert isinstance(found, GainPoints)
        if found.is_nothing:
            return "There was nothing to even out: no speech, or even already."
        lowest_db, highest_db = found.span_db
        return f"Evened out speech by {change(lowest_db)} to {change(highest_db)} dB."

    def figures(self, before: Shape, found: Found | None) -> dict[str, Any]:
        assert isinstance(found, GainPoints)
        return {"gain_db": [round(each, 3) for each in found.span_db]}


@lru_cache(maxsize=8)
def _guessed(step: Even, energies: bytes, rate_hz: int) -> GainPoints:
    values = np.frombuffer(energies)
    heard = Heard(values, np.zeros(len(values) // 5 + 1))
    return step._points(heard, rate_hz, len(values) * rate_hz // HOPS_PER_SECOND)
