"""Channels moved in time by whole frames, each by itself; the length stays."""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from itertools import chain

import numpy as np
from numpy.typing import NDArray

from ..files.blocks import Block
from ..signals import Derived, Signal
from ..values import Shape
from .stage import InPlace


@dataclass(frozen=True)
class Shift(InPlace):
    """later_frames: of each channel; less than 0 is earlier. Where nothing comes to lie there is silence."""

    before: Shape
    later_frames: tuple[int, ...]

    @property
    def after(self) -> Shape:
        return self.before

    def on(self, before: Signal) -> Signal:
        return _Shifted(before, self.later_frames)


class _Shifted(Derived):
    def __init__(self, before: Signal, later_frames: Sequence[int]) -> None:
        super().__init__(before, before.shape)
        self._later = tuple(later_frames)
        self._latest, self._earliest = max(0, *self._later), min(0, *self._later)

    def only(self, channels: Sequence[int]) -> "_Shifted":
        return _Shifted(self.before.only(channels), [self._later[number] for number in channels])

    def blocks(self, frames: int) -> Iterator[Block]:
        """What comes in, with silence before and after it, goes out again with each channel taken from its place."""
        channels, reach, left = self.shape.channels, self._latest - self._earliest, self.shape.frames
        held = np.zeros((self._latest, channels))
        after = np.zeros((-self._earliest, channels))
        for block in chain(self.before.blocks(frames), (after,)):
            held = np.concatenate((held, block))
            ready = min(left, len(held) - reach)
            for first in range(0, ready, frames):
                yield self._placed(held, first, min(ready, first + frames))
            if ready > 0:
                held, left = held[ready:], left - ready

    def window(self, first: int, last: int) -> Block:
        begin, end = first - self._latest, last - self._earliest
        piece = self.before.window(max(0, begin), max(0, min(self.shape.frames, end)))
        silent_before, silent_after = max(0, -begin), max(0, end - self.shape.frames)
        held = np.pad(piece.astype(np.float64), ((silent_before, silent_after), (0, 0)))
        return self._placed(held[: last - begin - self._earliest], 0, last - first)

    def _placed(self, held: NDArray[np.float64], first: int, last: int) -> Block:
        """Frames of the output; `held` begins with what comes in `latest` before them."""
        starts = [first + self._latest - later for later in self._later]
        columns = [held[start : start + last - first, number] for number, start in enumerate(starts)]
        return np.array(columns, np.float64).T
