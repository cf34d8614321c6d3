"""At another sampling rate."""

from typing import Annotated, Literal

from pydantic import Field

from ..stages import Resample, Stage
from ..values import Shape
from .step import Found, Step


class Rate(Step):
    do: Literal["rate"] = "rate"
    hz: Annotated[int, Field(ge=2_000, le=768_000)]

    def stages(self, before: Shape, found: Found | None) -> tuple[Stage, ...]:
        return () if self.hz == before.rate_hz else (Resample(before, self.hz),)

    @property
    def doing(self) -> str:
        return f"resampled to {self.hz} Hz"

    @property
    def wish(self) -> str:
        return f"Resample to {self.hz} Hz."

    def words(self, before: Shape, found: Found | None) -> str:
        return (
            f"It is resampled from {before.rate_hz} to {self.hz} Hz before the level is set, "
            "for peaks move in resampling."
        )
