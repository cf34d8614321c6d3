"""Folded down, or laid out, by ITU-R BS.775-4 as a spec does it."""

from typing import Annotated, Literal

from pydantic import Field

from ..channels import layout_of_name
from ..stages import Mix, Stage, Turn
from ..values import Shape
from .fold_matrix import behind_channels, fold_matrix, matrixed_rows
from .step import Found, Step

PeakDb = Annotated[float, Field(ge=-100.0, le=20.0, allow_inf_nan=False)]


MATRIXED = "It is for matrixed playback (Lt/Rt): a decoder finds the surrounds in it again."


class Fold(Step):
    """layout: its name; the shares of centre, surrounds, heights and LFE in dB; None for what is usual.

    matrixed: what is behind goes into both of two channels, turned by 90 degrees and against each other (Lt/Rt).
    """

    do: Literal["fold"] = "fold"
    layout: Literal["mono", "stereo", "5.1", "7.1"]
    centre_db: PeakDb = -3.0
    surround_db: PeakDb = -3.0
    height_db: PeakDb | None = None
    lfe_db: PeakDb | Literal["off"] = "off"
    mono_law: Literal["half", "power", "left", "right"] | None = None
    matrixed: bool | None = None

    def stages(self, before: Shape, found: Found | None) -> tuple[Stage, ...]:
        layout = layout_of_name(self.layout)
        if layout.positions == before.layout.positions:
            return ()
        if self._is_matrixed(before):
            rows = tuple(map(tuple, matrixed_rows(before.layout, self).tolist()))
            return Turn(before, behind_channels(before.layout)), Mix(before, rows, layout)
        matrix = fold_matrix(before.layout, layout, self)
        return (Mix(before, tuple(map(tuple, matrix.tolist())), layout),)

    @property
    def doing(self) -> str:
        return f"brought to {self.layout}"

    @property
    def wish(self) -> str:
        return f"Fold down to {self.layout}{', for matrixed playback' if self.matrixed else ''}."

    def words(self, before: Shape, found: Found | None) -> str:
        wider = len(layout_of_name(self.layout).positions) > before.channels
        what = "is laid out as" if wider else "is folded down to"
        said = f"{before.layout.name.capitalize()} {what} {self.layout} first; the level is that of the result."
        return f"{said} {MATRIXED}" if self._is_matrixed(before) else said

    def _is_matrixed(self, before: Shape) -> bool:
        return bool(self.matrixed) and self.layout == "stereo" and bool(behind_channels(before.layout))
