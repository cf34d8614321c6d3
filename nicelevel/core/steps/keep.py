"""Only some channels."""

from collections.abc import Sequence
from typing import Annotated, Literal

from pydantic import Field

from ..channels import layout_of
from ..errors import UnsupportedError
from ..stages import Mix, Stage
from ..values import Shape
from ..words import listed
from .step import Found, Step

Number = Annotated[int, Field(ge=1, le=128)]
"""Of a channel, from 1."""


def refuse_missing(channels: Sequence[int], shape: Shape) -> None:
    """Raises UnsupportedError where a signal has not all of these channels."""
    if channels and max(channels) > shape.channels:
        raise UnsupportedError(f"There is no channel {max(channels)}: it has {shape.channels}.")


def named_channels(channels: Sequence[int]) -> str:
    """Channels as a sentence has them: "channel 2", "channels 1 and 2"."""
    return f"channel{'s' if len(channels) > 1 else ''} {listed([str(number) for number in channels])}"


class Keep(Step):
    """channels: by number, from 1, in the order that results."""

    do: Literal["keep"] = "keep"
    channels: Annotated[tuple[Number, ...], Field(min_length=1, max_length=128, strict=False)] = (1,)

    def stages(self, before: Shape, found: Found | None) -> tuple[Stage, ...]:
        refuse_missing(self.channels, before)
        chosen = tuple(number - 1 for number in self.channels)
        if chosen == tuple(range(before.channels)):
            return ()
        rows = tuple(tuple(float(number == each) for number in range(before.channels)) for each in chosen)
        return (Mix(before, rows, layout_of(before.layout, chosen)),)

    @property
    def doing(self) -> str:
        return "split into its channels"

    @property
    def wish(self) -> str:
        return f"Keep only {named_channels(self.channels)}."

    def words(self, before: Shape, found: Found | None) -> str:
        return f"Only {named_channels(self.channels)} of {before.channels} kept."
