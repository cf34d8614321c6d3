"""Exactly so long: cut, its end faded out, or filled with silence."""

from typing import Annotated, Literal

from pydantic import Field

from ..stages import Edit, Ride, Stage, Stretch
from ..values import Shape
from ..words import amount
from .fades import Fades
from .step import Found, Seconds, Step, frames_of


class Length(Step):
    """fade_s: what is cut is faded out over its last so many seconds."""

    do: Literal["length"] = "length"
    seconds: Annotated[float, Field(gt=0.0, le=86_400.0, allow_inf_nan=False)]
    fade_s: Seconds = 0.0

    def stages(self, before: Shape, found: Found | None) -> tuple[Stage, ...]:
        frames = frames_of(self.seconds, before.rate_hz)
        if frames == before.frames:
            return ()
        edit = Edit(before, (Stretch(0, min(frames, before.frames), 0),), frames)
        fade_frames = min(frames, frames_of(self.fade_s, before.rate_hz))
        if frames > before.frames or not fade_frames:
            return (edit,)
        return edit, Ride(edit.after, Fades(frames, 0, fade_frames))

    @property
    def doing(self) -> str:
        return "cut to its length"

    @property
    def wish(self) -> str:
        fade = f", the last {amount(self.fade_s)} s fading out" if self.fade_s else ""
        return f"Make it exactly {amount(self.seconds)} s long{fade}."

    def words(self, before: Shape, found: Found | None) -> str:
        if frames_of(self.seconds, before.rate_hz) > before.frames:
            return f"It is filled with silence from {before.duration_s:.3f} to {self.seconds:.3f} s."
        fade = f", the last {self.fade_s:g} s fade out" if self.fade_s else ""
        return f"It is cut from {before.duration_s:.3f} to {self.seconds:.3f} s{fade}."
