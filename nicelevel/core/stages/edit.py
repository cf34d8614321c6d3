"""Stretches of a signal put together anew: cut, trimmed, silence put in, pieces joined by crossfades."""

from collections.abc import Iterator
from dataclasses import dataclass
from fractions import Fraction
from functools import cached_property
from typing import ClassVar, Literal

import numpy as np
from numpy.typing import NDArray

from ..files.blocks import Block
from ..signals import Derived, Signal, Span, Timeline
from ..values import Shape

Slope = Literal["level", "rising", "falling"]


@dataclass(frozen=True)
class Stretch:
    """Some frames of what comes in, and where they lie in what goes out.

    slope: a rising and a falling one over the same frames are a crossfade: their gains add up to 1.
    """

    first: int
    frames: int
    at: int
    slope: Slope = "level"

    @property
    def end(self) -> int:
        """The frame after its last, of what comes in."""
        return self.first + self.frames

    def gains(self, first: int, count: int) -> NDArray[np.float64] | None:
        """Of some frames of it; None where all are 1."""
        if self.slope == "level":
            return None
        rising: NDArray[np.float64] = (np.arange(first, first + count) + 0.5) / self.frames
        return rising if self.slope == "rising" else 1.0 - rising


@dataclass(frozen=True)
class Edit:
    """frames: of what goes out; where no stretch lies it is silent. The stretches begin in the order of their frames,
    which is that of their places too.
    """

    before: Shape
    stretches: tuple[Stretch, ...]
    frames: int
    is_exact: ClassVar[bool] = True
    is_selection: ClassVar[bool] = False

    @property
    def after(self) -> Shape:
        return Shape(self.before.rate_hz, self.before.layout, self.frames)

    @cached_property
    def timeline(self) -> Timeline:
        spans = [self._span(each) for each in self.stretches if each.slope != "falling"]
        return Timeline(tuple(spans))

    def _span(self, stretch: Stretch) -> Span:
        source_s, output_s, length_s = (
            Fraction(frames, self.before.rate_hz) for frames in (stretch.first, stretch.at, stretch.frames)
        )
        # What is marked at the end of a file stays there.
        is_to_end = stretch.end == self.before.frames and stretch == self.stretches[-1]
        return Span(source_s, output_s, None if is_to_end else length_s)

    def on(self, before: Signal) -> Signal:
        return _Edited(before, self)


class _Edited(Derived):
    def __init__(self, before: Signal, edit: Edit) -> None:
        super().__init__(before, edit.after.like(before.shape))
        self._edit = edit

    def after(self, before: Signal) -> "_Edited":
        return _Edited(before, self._edit)

    def window(self, first: int, last: int) -> Block:
        room = self._room(last - first)
        for each in self._edit.stretches:
            begin, end = max(first, each.at), min(last, each.at + each.frames)
            if begin < end:
                source = self.before.window(each.first + begin - each.at, each.first + end - each.at)
                _put(room, begin - first, source, each, begin - each.at)
        return room

    def blocks(self, frames: int) -> Iterator[Block]:
        """What comes in is read once; what is complete goes out."""
        waiting, room, out_first, done = list(self._edit.stretches), self._room(0), 0, 0
        for block in self.before.blocks(frames) if waiting else ():
            if not len(room) and _goes_straight(waiting, done, done + len(block), out_first):
                yield block
                out_first, done = out_first + len(block), done + len(block)
                waiting = waiting[waiting[0].end <= done :]
                continue
            complete = min(each.at + max(0, done - each.first) for each in waiting)
            yield from self._given(room[: complete - out_first], complete - out_first, frames)
            room, out_first, ends = room[complete - out_first :], complete, done + len(block)
            touched = [each for each in waiting if each.first < ends]
            filled = max((each.at + min(ends, each.end) - each.first for each in touched), default=0)
            room = self._grown(room, filled - out_first)
            for each in touched:
                begin, end = max(done, each.first), min(ends, each.end)
                at = each.at + begin - each.first - out_first
                _put(room, at, block[begin - done : end - done], each, begin - each.first)
            done = ends
            waiting = [each for each in waiting if each.end > done]
            if not waiting:
                break
        yield from self._given(room, self._edit.frames - out_first, frames)

    def _given(self, room: NDArray[np.float64], count: int, frames: int) -> Iterator[Block]:
        """So many frames in blocks: what is there, then silence."""
        for first in range(0, len(room), frames):
            yield room[first : first + frames]
        for first in range(len(room), count, frames):
            yield self._room(min(frames, count - first))

    def _grown(self, room: NDArray[np.float64], frames: int) -> NDArray[np.float64]:
        if frames <= len(room):
            return room
        grown = self._room(frames)
        grown[: len(room)] = room
        return grown

    def _room(self, frames: int) -> NDArray[np.float64]:
        return np.zeros((self.shape.channels, frames)).T


def _goes_straight(waiting: list[Stretch], first: int, last: int, at: int) -> bool:
    """Whether some frames of what comes in are, as they are, what goes out next."""
    level = waiting[0]
    is_inside = level.slope == "level" and level.first <= first and last <= level.end
    return is_inside and level.at + first - level.first == at and all(each.first >= last for each in waiting[1:])


def _put(room: NDArray[np.float64], at: int, samples: Block, stretch: Stretch, into: int) -> None:
    gains = stretch.gains(into, len(samples))
    if gains is None:
        room[at : at + len(samples)] = samples
    else:
        room[at : at + len(samples)] += samples * gains[:, None]
