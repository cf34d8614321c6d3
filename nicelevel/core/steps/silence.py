"""Digital silence put in front and behind."""

from typing import Literal, Self

from pydantic import model_validator

from ..stages import Edit, Stage, Stretch
from ..values import Shape
from ..words import amount
from .step import Found, Seconds, Step, frames_of

MOST_ADDED_S = 86_400.0


class Silence(Step):
    do: Literal["silence"] = "silence"
    head_s: Seconds = 0.0
    tail_s: Seconds = 0.0

    @model_validator(mode="after")
    def _a_day_at_most(self) -> Self:
        if self.head_s + self.tail_s > MOST_ADDED_S:
            raise ValueError(f"tail_s: {self.head_s + self.tail_s:g} s in all are more than a day")
        return self

    def stages(self, before: Shape, found: Found | None) -> tuple[Stage, ...]:
        head, tail = frames_of(self.head_s, before.rate_hz), frames_of(self.tail_s, before.rate_hz)
        if not head + tail:
            return ()
        return (Edit(before, (Stretch(0, before.frames, head),), head + before.frames + tail),)

    @property
    def doing(self) -> str:
        return "given silence at its ends"

    @property
    def wish(self) -> str:
        return f"Put {self._said or 'in no silence'}."

    @property
    def _said(self) -> str:
        ends = ((self.head_s, "in front"), (self.tail_s, "behind"))
        return " and ".join(f"{amount(seconds)} s of silence {where}" for seconds, where in ends if seconds)

    def words(self, before: Shape, found: Found | None) -> str:
        return self.wish
