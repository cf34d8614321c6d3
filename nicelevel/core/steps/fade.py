"""Faded in and out."""

from typing import Literal

from ..stages import Ride, Stage
from ..values import Shape
from ..words import amount
from .fades import Fades, FadeShape
from .step import Found, Seconds, Step, frames_of


class Fade(Step):
    """Fades that are longer than what they are for are shortened to it, both in proportion."""

    do: Literal["fade"] = "fade"
    in_s: Seconds = 0.0
    out_s: Seconds = 0.0
    shape: FadeShape = "cosine"

    def stages(self, before: Shape, found: Found | None) -> tuple[Stage, ...]:
        begin, end = self._frames(before)
        return (Ride(before, Fades(before.frames, begin, end, self.shape)),) if begin + end else ()

    def _frames(self, before: Shape) -> tuple[int, int]:
        begin, end = frames_of(self.in_s, before.rate_hz), frames_of(self.out_s, before.rate_hz)
        if begin + end <= before.frames:
            return begin, end
        begin = (2 * before.frames * begin + begin + end) // (2 * (begin + end))
        return begin, before.frames - begin

    @property
    def doing(self) -> str:
        return "faded"

    @property
    def wish(self) -> str:
        ends = ((self.in_s, "in"), (self.out_s, "out"))
        said = [f"{where} over {amount(seconds)} s" for seconds, where in ends if seconds]
        return f"Fade {' and '.join(said) or 'nothing'}."

    def words(self, before: Shape, found: Found | None) -> str:
        lengths = [frames / before.rate_hz for frames in self._frames(before)]
        said = [
            f"{where} over {amount(seconds)} s"
            for seconds, where in zip(lengths, ("in", "out"), strict=True)
            if seconds
        ]
        return f"Faded {' and '.join(said) or 'nothing'}."
