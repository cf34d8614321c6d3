"""Channels made of channels by a matrix: fold-downs, single channels, another order, turned-over sides."""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ..channels import Layout
from ..files.blocks import Block
from ..signals import Derived, Selected, Signal
from ..signals.signal import side_by_side
from ..values import Shape
from .stage import InPlace

Rows = tuple[tuple[float, ...], ...]
"""A row for each channel that results, with the share of each channel that comes in."""


@dataclass(frozen=True)
class Mix(InPlace):
    """layout: of what results."""

    before: Shape
    rows: Rows
    layout: Layout

    @property
    def after(self) -> Shape:
        return Shape(self.before.rate_hz, self.layout, self.before.frames)

    @property
    def is_selection(self) -> bool:  # type: ignore[override]
        return all(sorted(row) == [*[0.0] * (len(row) - 1), 1.0] for row in self.rows)

    def on(self, before: Signal) -> Signal:
        if self.is_selection:
            chosen = before.only([row.index(1.0) for row in self.rows])
            as_named = chosen.shape.layout == self.layout
            return chosen if as_named else Selected(chosen, range(len(self.rows)), self.after)
        if isinstance(before, _Mixed):
            return before.mixed_on(np.array(self.rows), self.after)
        return _Mixed(before, np.array(self.rows), self.after)


class _Mixed(Derived):
    """matrix: output × input channels. Every output channel is summed by itself, so it does not depend on others."""

    def __init__(self, before: Signal, matrix: NDArray[np.float64], shape: Shape) -> None:
        super().__init__(before, shape)
        self._matrix = matrix

    def blocks(self, frames: int) -> Iterator[Block]:
        return map(self._mixed, self.before.blocks(frames))

    def window(self, first: int, last: int) -> Block:
        return self._mixed(self.before.window(first, last))

    def only(self, channels: Sequence[int]) -> "_Mixed":
        return _Mixed(self.before, self._matrix[list(channels)], self.shape.with_channels(channels))

    def mixed_on(self, matrix: NDArray[np.float64], shape: Shape) -> "_Mixed":
        """Neighbours multiply into one."""
        return _Mixed(self.before, matrix @ self._matrix, shape)

    def _mixed(self, block: Block) -> Block:
        used = np.flatnonzero(self._matrix.any(axis=0))
        columns = {int(number): block[:, number].astype(np.float64) for number in used}
        return side_by_side([_sum(row, columns, len(block)) for row in self._matrix])


def _sum(row: NDArray[np.float64], columns: dict[int, NDArray[np.float64]], frames: int) -> NDArray[np.float64]:
    total = np.zeros(frames)
    for number, column in columns.items():
        if row[number]:
            total += column * row[number]
    return total
