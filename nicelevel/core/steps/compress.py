"""What is loud is turned down by a ratio."""

import math
from typing import Annotated, Any, ClassVar, Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from ..kernels import Floats, kernel
from ..signals import Signal
from ..stages import Ride, Stage
from ..values import Shape
from ..words import amount, change
from .gain_points import GainPoints, PointsCurve
from .hops import Hops
from .running_level import running_squares
from .step import Found, LevelDb, Milliseconds, Step

FINEST_S, COARSEST_S = 1 / 6000, 0.001
"""The gain goes forward in steps of the first, and is kept at points as far apart as the attack allows."""

POINTS_PER_ATTACK = 8
LOWEST_SQUARE = 1e-20


class Compress(Step):
    """Static curve with a quadratic knee, then time constants of the gain in dB; it begins at no reduction."""

    do: Literal["compress"] = "compress"
    above_db: LevelDb
    ratio: Annotated[float, Field(ge=1.0, le=1_000.0, allow_inf_nan=False)]
    knee_db: Annotated[float, Field(ge=0.0, le=100.0, allow_inf_nan=False)] = 6.0
    attack_ms: Milliseconds = 10.0
    release_ms: Milliseconds = 120.0
    makeup_db: Annotated[float, Field(ge=-100.0, le=100.0, allow_inf_nan=False)] = 0.0
    finds: ClassVar[type[Found] | None] = GainPoints

    def find(self, before: Signal) -> GainPoints:
        rate_hz = before.shape.rate_hz
        step = max(1, round(FINEST_S * rate_hz))
        apart_s = min(COARSEST_S, self.attack_ms / 1000.0 / POINTS_PER_ATTACK)
        every = max(1, round(apart_s * rate_hz / step))
        weights = [_weight(step / rate_hz, each / 1000.0) for each in (self.attack_ms, self.release_ms)]
        state, points, done = np.zeros(1), [], 0
        for squares in running_squares(before):
            skipped = -done % step
            levels_db = 10.0 * np.log10(np.maximum(squares[skipped::step], LOWEST_SQUARE))
            gains_db = np.empty(len(levels_db))
            ride(self._static_db(levels_db), *weights, state, gains_db)
            first = -(-done // step)
            points.append(gains_db[-first % every :: every])
            done += len(squares)
        return GainPoints.of(step * every, np.concatenate(points))

    def guess(self, hops: Hops) -> GainPoints:
        step = max(1, hops.frame(1))
        weights = [_weight(step / hops.rate_hz, each / 1000.0) for each in (self.attack_ms, self.release_ms)]
        levels_db = 10.0 * np.log10(np.maximum(hops.squares, LOWEST_SQUARE))
        gains_db = np.empty(len(levels_db))
        ride(self._static_db(levels_db), *weights, np.zeros(1), gains_db)
        return GainPoints.of(step, gains_db if len(gains_db) else np.zeros(1))

    def _static_db(self, levels_db: NDArray[np.float64]) -> NDArray[np.float64]:
        """By how much a level is moved in the long run."""
        slope, over_db, half = 1.0 / self.ratio - 1.0, levels_db - self.above_db, self.knee_db / 2.0
        past_db: NDArray[np.float64] = np.maximum(over_db - half, 0.0)
        if half:
            # Within the knee the slope grows from nothing; past it a straight line goes on.
            within_db = np.clip(over_db + half, 0.0, self.knee_db)
            past_db += within_db * within_db / (2.0 * self.knee_db)
        return slope * past_db

    def stages(self, before: Shape, found: Found | None) -> tuple[Stage, ...]:
        assert isinstance(found, GainPoints)
        if found.is_nothing and not self.makeup_db:
            return ()
        return (Ride(before, PointsCurve(found, self.makeup_db)),)

    @property
    def doing(self) -> str:
        return "compressed"

    @property
    def wish(self) -> str:
        makeup = f", then {change(self.makeup_db)} dB" if self.makeup_db else ""
        return f"Squeeze what is above {amount(self.above_db)} dB, {amount(self.ratio)} to 1{makeup}."

    def words(self, before: Shape, found: Found | None) -> str:
        lowest_db, highest_db = self.figures(before, found)["gain_db"]
        if not self.stages(before, found):
            return f"Nothing reaches {amount(self.above_db)} dB."
        return f"Moved the level by {change(lowest_db)} to {change(highest_db)} dB, {amount(self.ratio)} to 1."

    def figures(self, before: Shape, found: Found | None) -> dict[str, Any]:
        assert isinstance(found, GainPoints)
        return {"gain_db": [round(each + self.makeup_db, 3) for each in found.span_db]}


def _weight(step_s: float, time_constant_s: float) -> float:
    """How much of the way a gain goes in one step."""
    return 1.0 - math.exp(-step_s / time_constant_s) if time_constant_s > 0.0 else 1.0


@kernel
def ride(wanted_db: Floats, attack: float, release: float, state: Floats, gains_db: Floats) -> None:
    """Each gain a part of the way towards what is wanted: `attack` of it downwards, `release` upwards."""
    gain_db = state[0]
    for at in range(len(wanted_db)):
        way_db = wanted_db[at] - gain_db
        gain_db += way_db * (attack if way_db < 0.0 else release)
        gains_db[at] = gain_db
    state[0] = gain_db
