"""What lies between two times."""

from typing import Annotated, Literal, Self

from pydantic import Field, model_validator

from ..errors import EmptyError
from ..stages import Edit, Stage, Stretch
from ..values import Shape
from ..words import amount
from .step import Found, Step, frames_of

Time = Annotated[float, Field(ge=0.0, allow_inf_nan=False)]


class Cut(Step):
    """to_s: None for the end; what lies past the end is the end."""

    do: Literal["cut"] = "cut"
    from_s: Time = 0.0
    to_s: Time | None = None

    @model_validator(mode="after")
    def _ends_after_it_begins(self) -> Self:
        if self.to_s is not None and self.to_s < self.from_s:
            raise ValueError(f"to_s: {self.to_s:g} lies before from_s, {self.from_s:g}")
        return self

    def stages(self, before: Shape, found: Found | None) -> tuple[Stage, ...]:
        first, last = self._kept(before)
        if (first, last) == (0, before.frames):
            return ()
        return (Edit(before, (Stretch(first, last - first, 0),), last - first),)

    def _kept(self, before: Shape) -> tuple[int, int]:
        last = before.frames if self.to_s is None else min(before.frames, frames_of(self.to_s, before.rate_hz))
        first = frames_of(self.from_s, before.rate_hz)
        if first >= last:
            raise EmptyError(f"Nothing of it lies {self._where}: it is {amount(before.duration_s)} s long.")
        return first, last

    @property
    def _where(self) -> str:
        end = "the end" if self.to_s is None else f"{amount(self.to_s)} s"
        return f"between {amount(self.from_s)} s and {end}"

    @property
    def doing(self) -> str:
        return "cut"

    @property
    def wish(self) -> str:
        return f"Keep what lies {self._where}."

    def words(self, before: Shape, found: Found | None) -> str:
        first, last = self._kept(before)
        taken_s = (before.frames - last + first) / before.rate_hz
        return f"Kept what lies {self._where}; {taken_s:.3f} s were cut off." if taken_s else "Nothing was cut off."
