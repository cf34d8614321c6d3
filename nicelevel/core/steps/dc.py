"""A constant offset is taken away."""

from typing import ClassVar, Literal

import numpy as np

from ..signals import Signal
from ..stages import Patch, Stage
from ..values import Shape
from ..words import figure, listed
from .hops import Hops
from .step import Found, Step

BLOCK_FRAMES = 1 << 16
NOTHING = 1e-12
"""An offset under this, -240 dB, is what rounding leaves of sums."""


class Offsets(Found):
    """The mean of each channel, of samples at ±1.0."""

    means: tuple[float, ...]


class Dc(Step):
    do: Literal["dc"] = "dc"
    finds: ClassVar[type[Found] | None] = Offsets
    adds_up: ClassVar[bool] = True

    def find(self, before: Signal) -> Offsets:
        sums = np.zeros(before.shape.channels)
        for block in before.blocks(BLOCK_FRAMES):
            sums += block.sum(axis=0, dtype=np.float64)
        return Offsets(means=tuple((sums / before.shape.frames).tolist()))

    def guess(self, hops: Hops) -> Offsets:
        return Offsets(means=hops.means)

    def stages(self, before: Shape, found: Found | None) -> tuple[Stage, ...]:
        means = _means(found)
        return (Patch(before, tuple(-mean for mean in means)),) if any(means) else ()

    @property
    def doing(self) -> str:
        return "freed of its offset"

    @property
    def wish(self) -> str:
        return "Take away a constant offset."

    def words(self, before: Shape, found: Found | None) -> str:
        means = _means(found)
        if not any(means):
            return "There was no constant offset."
        return f"Took away a constant offset of {listed([f'{figure(100 * each, 3)} %' for each in means])}."


def _means(found: Found | None) -> tuple[float, ...]:
    assert isinstance(found, Offsets)
    return tuple(0.0 if abs(mean) < NOTHING else mean for mean in found.means)
