"""A plain gain."""

from dataclasses import dataclass
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray

from ..stages import Ride, Stage
from ..units import ratio_from_db
from ..values import Shape
from ..words import change
from .step import Found, GainDb, Step


class Gain(Step):
    do: Literal["gain"] = "gain"
    db: GainDb

    def stages(self, before: Shape, found: Found | None) -> tuple[Stage, ...]:
        return (Ride(before, _Level(ratio_from_db(self.db))),) if self.db else ()

    @property
    def doing(self) -> str:
        return f"moved by {change(self.db)} dB"

    @property
    def wish(self) -> str:
        return f"Move the level by {change(self.db)} dB."

    def words(self, before: Shape, found: Found | None) -> str:
        return f"Moved the level by {change(self.db)} dB."


@dataclass(frozen=True)
class _Level:
    ratio: float

    def gains(self, first: int, last: int) -> NDArray[np.float64]:
        return np.full(last - first, self.ratio)

    def at(self, frames: NDArray[np.integer[Any]]) -> NDArray[np.float64]:
        return np.full(len(frames), self.ratio)
