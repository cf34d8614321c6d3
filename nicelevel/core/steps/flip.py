"""Channels turned over."""

from typing import Annotated, Literal

from pydantic import Field

from ..stages import Mix, Stage
from ..values import Shape
from .keep import Number, named_channels, refuse_missing
from .step import Found, Step


class Flip(Step):
    """channels: by number, from 1."""

    do: Literal["flip"] = "flip"
    channels: Annotated[tuple[Number, ...], Field(max_length=128, strict=False)] = (2,)

    def stages(self, before: Shape, found: Found | None) -> tuple[Stage, ...]:
        refuse_missing(self.channels, before)
        if not self.channels:
            return ()
        signs = [-1.0 if number + 1 in self.channels else 1.0 for number in range(before.channels)]
        rows = (tuple(sign * (at == number) for at in range(before.channels)) for number, sign in enumerate(signs))
        return (Mix(before, tuple(rows), before.layout),)

    @property
    def doing(self) -> str:
        return "turned over"

    @property
    def wish(self) -> str:
        return f"Turn over {named_channels(self.channels)}."

    def words(self, before: Shape, found: Found | None) -> str:
        return f"Turned over {named_channels(self.channels)}."
