"""Only some channels."""

from typing import Annotated, Literal

from pydantic import Field

from ..channels import layout_of
from ..errors import UnsupportedError
from ..stages import Mix, Stage
from ..values import Shape
from .step import Found, Step

Number = Annotated[int, Field(ge=1, le=128)]


class Keep(Step):
    """channels: by number, from 1, in the order that results."""

    do: Literal["keep"] = "keep"
    channels: Annotated[tuple[Number, ...], Field(min_length=1, max_length=128, strict=False)] = (1,)

    def stages(self, before: Shape, found: Found | None) -> tuple[Stage, ...]:
        if max(self.channels) > before.channels:
            raise UnsupportedError(f"There is no channel {max(self.channels)}: it has {before.channels}.")
        chosen = tuple(number - 1 for number in self.channels)
        if chosen == tuple(range(before.channels)):
            return ()
        rows = tuple(tuple(float(number == each) for number in range(before.channels)) for each in chosen)
        return (Mix(before, rows, layout_of(before.layout, chosen)),)

    @property
    def doing(self) -> str:
        return "split into its channels"

    def words(self, before: Shape, found: Found | None) -> str:
        kept = ", ".join(map(str, self.channels))
        return f"Only channel{'s' if len(self.channels) > 1 else ''} {kept} of {before.channels} kept."
