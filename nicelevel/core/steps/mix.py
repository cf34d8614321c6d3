"""Channels made of channels by a matrix."""

from typing import Annotated, Literal, Self

from pydantic import Field, model_validator

from ..channels import layout_of_name
from ..errors import UnsupportedError
from ..stages import Mix as Mixing
from ..stages import Stage
from ..values import Shape
from .step import Found, Step

Share = Annotated[float, Field(ge=-1e6, le=1e6, allow_inf_nan=False)]
Row = Annotated[tuple[Share, ...], Field(min_length=1, max_length=128, strict=False)]


class Mix(Step):
    """rows: one for each channel that results, in the order of the layout, with the share of each that comes in.

    Those past the end of a row have none.
    """

    do: Literal["mix"] = "mix"
    rows: Annotated[tuple[Row, ...], Field(min_length=1, max_length=128, strict=False)] = ((0.5, 0.5),)
    layout: Literal["mono", "stereo", "3.0", "4.0", "5.0", "5.1", "7.1", "5.1.2", "5.1.4", "7.1.2", "7.1.4"] = "mono"

    @model_validator(mode="after")
    def _a_row_for_each_channel(self) -> Self:
        channels = len(layout_of_name(self.layout).positions)
        if len(self.rows) != channels:
            raise ValueError(f"rows: {self.layout} has {channels} channels, and there are {len(self.rows)} rows")
        return self

    def stages(self, before: Shape, found: Found | None) -> tuple[Stage, ...]:
        most = max(map(len, self.rows))
        if most > before.channels:
            raise UnsupportedError(f"There is no channel {most}: it has {before.channels}.")
        rows = tuple(row + (0.0,) * (before.channels - len(row)) for row in self.rows)
        layout = layout_of_name(self.layout)
        unit = tuple(tuple(float(at == number) for at in range(before.channels)) for number in range(before.channels))
        is_same = rows == unit and layout.positions == before.layout.positions
        return () if is_same else (Mixing(before, rows, layout),)

    @property
    def doing(self) -> str:
        return "mixed"

    @property
    def wish(self) -> str:
        return f"Mix its channels into {self.layout} by a matrix."

    def words(self, before: Shape, found: Found | None) -> str:
        return f"Mixed {before.layout.name} into {self.layout} by a matrix."
