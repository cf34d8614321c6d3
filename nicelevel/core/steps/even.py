"""Speech is evened out: passages of different level are brought together."""

from typing import Any, ClassVar, Literal

import numpy as np

from ..measure.gating import HOPS_PER_SECOND
from ..signals import Signal
from ..speech import Amount, even_out, listen_to
from ..stages import Ride, Stage
from ..values import Shape
from ..words import change
from .gain_points import GainPoints, PointsCurve
from .step import Found, Step


class Even(Step):
    """amount: how near to the level of the whole each passage is brought: within 4, 2 or 1 LU."""

    do: Literal["even"] = "even"
    amount: Amount = "medium"
    finds: ClassVar[type[Found] | None] = GainPoints

    def find(self, before: Signal) -> GainPoints:
        gains_db = even_out(listen_to(before), self.amount)
        rate_hz = before.shape.rate_hz
        step = max(1, round(rate_hz / HOPS_PER_SECOND))
        hops = np.arange(-(-before.shape.frames // step) + 1) * step / rate_hz * HOPS_PER_SECOND
        # What was found is the gain at the middle of each 10 ms.
        points_db = (
            np.interp(hops - 0.5, np.arange(len(gains_db)), gains_db) if len(gains_db) else np.zeros(len(hops))
        )
        return GainPoints.of(step, points_db)

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
