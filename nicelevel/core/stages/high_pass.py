"""A recursive filter of minimum phase: what lies under a frequency is let go."""

import cmath
import math
from collections.abc import Iterator
from dataclasses import dataclass
from functools import cached_property
from typing import ClassVar

import numpy as np
from numpy.typing import NDArray

from ..ahead import ahead
from ..files.blocks import Block
from ..kernels import Floats, kernel
from ..signals import Derived, Signal
from ..values import Shape
from .stage import InPlace

FORGOTTEN_RATIO = 1e-16
"""What a filter still remembers after its lead is less than so much of what came in."""

SMALLEST_STATE = 1e-30
"""Memory below this goes to zero in silence, or it would decay into slow denormal numbers."""


@dataclass(frozen=True)
class HighPass(InPlace):
    """Butterworth, 6 dB an octave for each order, from rest."""

    before: Shape
    hz: float
    order: int
    is_exact: ClassVar[bool] = False

    @property
    def after(self) -> Shape:
        return self.before

    def on(self, before: Signal) -> Signal:
        return _Filtered(before, self)

    @cached_property
    def sections(self) -> NDArray[np.float64]:
        """Rows of b0, b1, b2, a1, a2."""
        return butterworth(self.order, self.hz, self.before.rate_hz)

    @cached_property
    def lead_frames(self) -> int:
        """So long before a window the filter begins: by then it has forgotten that it began. By its slowest pole, and
        as long again for poles that lie together.
        """
        radius = max(_radius(a1, a2) for a1, a2 in self.sections[:, 3:])
        return 2 * math.ceil(math.log(FORGOTTEN_RATIO) / math.log(radius)) if radius > 0.0 else self.order


def butterworth(order: int, hz: float, rate_hz: int) -> NDArray[np.float64]:
    """A high pass as sections of second order, the last of first order where the order is odd.

    Rows of b0, b1, b2, a1, a2. The poles of the analogue filter lie evenly on a half circle; bilinear transform,
    exact at `hz`.
    """
    k = math.tan(math.pi * hz / rate_hz)
    rows = []
    for number in range(order // 2):
        damping = 2.0 * math.sin((2 * number + 1) * math.pi / (2 * order))
        a0 = 1.0 + damping * k + k * k
        rows.append([1.0 / a0, -2.0 / a0, 1.0 / a0, 2.0 * (k * k - 1.0) / a0, (1.0 - damping * k + k * k) / a0])
    if order % 2:
        rows.append([1.0 / (1.0 + k), -1.0 / (1.0 + k), 0.0, (k - 1.0) / (1.0 + k), 0.0])
    return np.array(rows)


def _radius(a1: float, a2: float) -> float:
    """Of the pole of a section that is farther from the middle."""
    root = cmath.sqrt(a1 * a1 - 4.0 * a2)
    return max(abs(-a1 + root), abs(-a1 - root)) / 2.0


class _Filtered(Derived):
    def __init__(self, before: Signal, stage: HighPass) -> None:
        super().__init__(before, before.shape)
        self._stage = stage

    def after(self, before: Signal) -> "_Filtered":
        return _Filtered(before, self._stage)

    def blocks(self, frames: int) -> Iterator[Block]:
        """In a thread of their own: it is the slowest stage, and what comes after needs a processor too."""
        with ahead(self._made(frames)) as coming:
            yield from coming

    def _made(self, frames: int) -> Iterator[Block]:
        states = self._rest()
        for block in self.before.blocks(frames):
            yield self._filtered(block, states)

    def window(self, first: int, last: int) -> Block:
        begin = max(0, first - self._stage.lead_frames)
        return self._filtered(self.before.window(begin, last), self._rest())[first - begin :]

    def _rest(self) -> NDArray[np.float64]:
        return np.zeros((self.shape.channels, len(self._stage.sections), 2))

    def _filtered(self, block: Block, states: NDArray[np.float64]) -> Block:
        """The next frames; `states` go on."""
        columns = np.array(block.T, np.float64, order="C")
        for number in range(0, len(columns), 2):
            filter_columns(columns[number : number + 2], self._stage.sections, states[number : number + 2])
        return columns.T


@kernel
def filter_columns(columns: Floats, sections: Floats, states: Floats) -> None:
    """One or two channels through all sections, in place: side by side, for each waits for its own last result.

    columns: channels × frames; states: channels × sections × 2. Transposed direct form II.
    """
    other = len(columns) - 1
    for number in range(len(sections)):
        b0, b1, b2, a1, a2 = sections[number]
        s1, s2 = states[0, number, 0], states[0, number, 1]
        t1, t2 = states[other, number, 0], states[other, number, 1]
        for at in range(columns.shape[1]):
            x, y = columns[0, at], columns[other, at]
            if x == 0.0 and abs(s1) + abs(s2) < SMALLEST_STATE:
                s1, s2 = 0.0, 0.0
            if y == 0.0 and abs(t1) + abs(t2) < SMALLEST_STATE:
                t1, t2 = 0.0, 0.0
            filtered, beside = b0 * x + s1, b0 * y + t1
            s1, s2 = b1 * x - a1 * filtered + s2, b2 * x - a2 * filtered
            t1, t2 = b1 * y - a1 * beside + t2, b2 * y - a2 * beside
            columns[0, at], columns[other, at] = filtered, beside
        states[0, number, 0], states[0, number, 1] = s1, s2
        states[other, number, 0], states[other, number, 1] = t1, t2
