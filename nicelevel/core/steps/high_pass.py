"""What lies under a frequency is let go."""

from typing import Annotated, Literal

from pydantic import Field

from ..errors import UnsupportedError
from ..stages import HighPass as Filtered
from ..stages import Stage
from ..values import Shape
from ..words import amount
from .step import Found, Step

DB_PER_OCTAVE_AND_ORDER = 6


class HighPass(Step):
    """A Butterworth filter of minimum phase; it begins at rest."""

    do: Literal["high_pass"] = "high_pass"
    hz: Annotated[float, Field(gt=0.0, le=400_000.0, allow_inf_nan=False)]
    order: Annotated[int, Field(ge=1, le=8)] = 2

    def stages(self, before: Shape, found: Found | None) -> tuple[Stage, ...]:
        if self.hz >= before.rate_hz / 2:
            raise UnsupportedError(f"There is nothing above {amount(self.hz)} Hz at a rate of {before.rate_hz} Hz.")
        return (Filtered(before, self.hz, self.order),)

    @property
    def doing(self) -> str:
        return "filtered"

    @property
    def wish(self) -> str:
        return f"Let through above {amount(self.hz)} Hz, {self._slope_db} dB an octave."

    @property
    def _slope_db(self) -> int:
        return DB_PER_OCTAVE_AND_ORDER * self.order

    def words(self, before: Shape, found: Found | None) -> str:
        return f"Let go of what lies under {amount(self.hz)} Hz, by {self._slope_db} dB an octave."
