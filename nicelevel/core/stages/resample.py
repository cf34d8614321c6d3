"""Another sampling rate: a linear filter with a finite reach before and after."""

import math
import os
from collections import deque
from collections.abc import Iterable, Iterator
from concurrent.futures import Future
from dataclasses import dataclass
from types import TracebackType
from typing import Any, ClassVar

import numpy as np
import soxr
from numpy.typing import NDArray

from ..ahead import own_thread
from ..files.blocks import Block
from ..files.codes import DOUBLE, Coding, column_of
from ..signals import Derived, Seekable, Signal
from ..signals.signal import Columns, side_by_side
from ..values import Shape
from .stage import InPlace

BLOCKS_AHEAD = 3
"""So many blocks are with the resampler before the first of them is asked for."""

MARGIN_S = 0.1
"""So much more is resampled on either side of a window: its filter reaches no farther."""

MOST_THREADS = max(2, os.cpu_count() or 2)
"""Of one resampler: channels share them."""


@dataclass(frozen=True)
class Resample(InPlace):
    """soxr's very high quality, which does not shift the signal; the exact length."""

    before: Shape
    to_hz: int
    is_exact: ClassVar[bool] = False

    @property
    def after(self) -> Shape:
        frames = resampled_frames(self.before.frames, self.before.rate_hz, self.to_hz)
        return Shape(self.to_hz, self.before.layout, frames)

    def on(self, before: Signal) -> Signal:
        return Resampled(before, self.to_hz)


def resampled_frames(frames: int, rate_hz: int, to_hz: int) -> int:
    """A length at another rate, to the nearest frame."""
    return (2 * frames * to_hz + rate_hz) // (2 * rate_hz)


class Resampled(Derived):
    """A signal at another rate."""

    def __init__(self, before: Signal, to_hz: int) -> None:
        super().__init__(before, Resample(before.shape, to_hz).after)

    def after(self, before: Signal) -> "Resampled":
        return Resampled(before, self.shape.rate_hz)

    def blocks(self, frames: int) -> Iterator[Block]:
        return map(side_by_side, self.columns(frames))

    def columns(self, frames: int) -> Iterator[Columns]:
        left, channels = self.shape.frames, self.shape.channels
        with Resampler(self.before.shape.rate_hz, self.shape.rate_hz, channels) as resampler:
            # Codes become samples on the way into the resampler, each channel by itself.
            for columns in resampler.columns(self.before.code_blocks(frames), self.before.coding):
                yield [column[:left] for column in columns]
                left -= min(left, len(columns[0]))
        # Rounding of the length can leave one frame to be filled.
        if left:
            yield [np.zeros(left)] * channels

    def window(self, first: int, last: int) -> Block:
        return resampled_window(self.before, self.shape.rate_hz, first, last)


def resampled_window(before: Seekable, to_hz: int, first: int, last: int) -> NDArray[np.float64]:
    """Some frames of a signal at another rate, which they are counted by; silent past its end.

    From a frame that both rates have in common, so that they lie where they lie in the whole.
    """
    rate_hz = before.shape.rate_hz
    common = math.gcd(rate_hz, to_hz)
    step, to_step = rate_hz // common, to_hz // common
    margin = round(MARGIN_S * to_hz)
    begin, end = max(0, (first - margin) // to_step), -(-(last + margin) // to_step)
    block = before.window(begin * step, min(before.shape.frames, end * step))
    with Resampler(rate_hz, to_hz, block.shape[1]) as resampler:
        whole = np.concatenate([side_by_side(columns) for columns in resampler.columns([block])])
    piece = whole[first - begin * to_step : last - begin * to_step]
    return np.pad(piece, ((0, last - first - len(piece)), (0, 0)))


class Resampler:
    """Every channel of a programme in a stream of its own: one knows nothing of the others. Threads share them."""

    def __init__(self, rate_hz: int, to_hz: int, channels: int) -> None:
        self._streams = [soxr.ResampleStream(rate_hz, to_hz, 1, "float64", "VHQ") for _ in range(channels)]
        self._threads = [own_thread() for _ in range(min(channels, MOST_THREADS))]

    def columns(self, blocks: Iterable[NDArray[Any]], coding: Coding = DOUBLE) -> Iterator[Columns]:
        """Each channel at the other rate, to the end; none waits for another within BLOCKS_AHEAD.

        blocks: frames × channels of codes in this coding.
        """
        begun: deque[list[Future[NDArray[np.float64]]]] = deque()
        for block in blocks:
            begun.append(self._begin(block, coding))
            if len(begun) > BLOCKS_AHEAD:
                yield [each.result() for each in begun.popleft()]
        begun.append(self._begin(np.zeros((0, len(self._streams))), DOUBLE, is_last=True))
        while begun:
            yield [each.result() for each in begun.popleft()]

    def _begin(self, block: NDArray[Any], coding: Coding, is_last: bool = False) -> list[Future[NDArray[np.float64]]]:
        def resampled(channel: int) -> NDArray[np.float64]:
            column = column_of(block, channel, coding) if coding.is_whole else block[:, channel]
            samples = np.ascontiguousarray(column, np.float64)
            part: NDArray[np.float64] = self._streams[channel].resample_chunk(samples, is_last)
            return part

        threads = self._threads
        # One thread takes all that a channel has, in order.
        return [threads[channel % len(threads)].submit(resampled, channel) for channel in range(len(self._streams))]

    def __enter__(self) -> "Resampler":
        return self

    def __exit__(self, kind: type | None, error: BaseException | None, trace: TracebackType | None) -> None:
        for thread in self._threads:
            thread.shutdown()
