"""The prepared signal: a source after its channel work and resampling, as blocks and as a reading."""

from collections import deque
from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import Future
from dataclasses import dataclass, replace
from functools import cached_property
from pathlib import Path
from types import TracebackType
from typing import Any

import numpy as np
import soxr
from numpy.typing import NDArray

from ..ahead import ahead, own_thread
from ..channels import Layout, layout_of_name
from ..files import take_in
from ..files.blocks import Block
from ..files.codes import DOUBLE, HELD, Coding
from ..files.read import Audio
from ..measure import BLOCK_FRAMES, Meter, hop_files, measure
from ..measure.gating import SortedBlocks, gating_blocks, short_term_steps
from ..measure.hop_files import Hops, open_hops
from ..progress import Progress
from ..units import db_from_energies
from ..values import Preparation, Reading, Source
from .held import Codes, Kept, PastRangeError, hold, in_steps, is_in_steps
from .steps import UNTOUCHED, resampled_frames

STRETCH_S = 4
"""Shorter stretches than elsewhere: what is measured last waits until all is made."""

LEVEL_STEP_DB = 4.0

BLOCKS_AHEAD = 3
"""So many blocks are with the resampler before the first of them is asked for."""


@dataclass(frozen=True)
class Prepared:
    """What plans are made from: the reading of a prepared signal with its curves, and its hops where a limiter may be
    asked for.

    kept: the signal itself, where there was room for it.
    """

    reading: Reading
    hops: Hops | None = None
    preparation: Preparation = UNTOUCHED
    kept: Kept | None = None

    @cached_property
    def blocks(self) -> SortedBlocks:
        """The 400 ms blocks of the two gates."""
        return SortedBlocks(gating_blocks(self.reading.curves.energies))

    @cached_property
    def short_term_sorted(self) -> NDArray[np.float64]:
        """Energies of the 3 s windows every 100 ms, in ascending order: a gain does not change that."""
        return np.sort(short_term_steps(self.reading.curves.energies))

    @cached_property
    def hops_by_level(self) -> tuple[dict[float, int], float]:
        """How many times 20 ms lie at about each level in dBFS, LEVEL_STEP_DB apart; the share of digital silence."""
        squares = self.reading.curves.squares
        pairs = np.add.reduceat(squares, np.arange(0, len(squares), 2)) / 2.0 if len(squares) else squares
        levels_db = db_from_energies(pairs[pairs > 0.0])
        _, step, counts = np.unique(np.round(levels_db / LEVEL_STEP_DB), return_inverse=True, return_counts=True)
        means_db = np.bincount(step, levels_db) / counts
        return dict(zip(means_db.tolist(), counts.tolist(), strict=True)), 1.0 - len(levels_db) / max(1, len(pairs))


Find = Callable[[Preparation], Prepared]
"""Gives the prepared signal of a source. Raises NotPreparedError where it is still to be made."""


def prepared_source(source: Source, preparation: Preparation) -> Source:
    """A source as it is after its preparation: floating point, its layout, rate and exact length."""
    if preparation.is_nothing:
        return source
    rate_hz = preparation.sample_rate_hz or source.sample_rate_hz
    return replace(
        source,
        size_bytes=None,
        encoding="float_64",
        bits_declared=None,
        bitrate_kbps=None,
        layout=_layout(source, preparation),
        sample_rate_hz=rate_hz,
        frames=preparation.frames or resampled_frames(source, rate_hz),
    )


def _layout(source: Source, preparation: Preparation) -> Layout:
    return layout_of_name("mono") if preparation.channel is not None else preparation.layout or source.layout


def prepared_blocks(audio: Audio, preparation: Preparation, frames: int) -> Iterator[Block]:
    """Blocks of frames × channels after every step; of an untouched source as `Audio.blocks` gives them."""
    blocks = audio.blocks(frames) if preparation.is_nothing else _worked_on(audio, preparation, frames)
    return map(in_steps, blocks) if is_in_steps(audio.source, preparation) else blocks


def _worked_on(audio: Audio, preparation: Preparation, frames: int) -> Iterator[Block]:
    """After every step, before it is rounded."""
    blocks: Iterator[Block] = (with_channels(block, preparation) for block in audio.blocks(frames))
    if preparation.sample_rate_hz is not None:
        channels = prepared_source(audio.source, preparation).channels
        blocks = _resampled(blocks, audio.source, preparation.sample_rate_hz, channels)
    return blocks if preparation.frames is None else _closed(blocks, preparation)


def with_channels(block: Block, preparation: Preparation) -> Block:
    """Frames × channels after the channel work of a preparation."""
    if preparation.matrix is not None:
        block = block.astype(np.float64) @ np.array(preparation.matrix).T
    return block if preparation.channel is None else block[:, preparation.channel : preparation.channel + 1]


def _closed(blocks: Iterator[Block], preparation: Preparation) -> Iterator[Block]:
    """Cut to the length of a preparation, its end faded out."""
    assert preparation.frames
    done = 0
    for block in blocks:
        part = block[: preparation.frames - done]
        gains = closing_gains(preparation, done, len(part))
        yield part if gains is None else part.astype(np.float64) * gains[:, None]
        done += len(part)
        if done == preparation.frames:
            return


def closing_gains(preparation: Preparation, first: int, count: int) -> NDArray[np.float64] | None:
    """The gains of some frames of a prepared signal: at its end along half a cosine, whose slope has no corner.

    None where all of them are 1.
    """
    if preparation.frames is None or count == 0:
        return None
    into_fade = np.arange(first, first + count) - (preparation.frames - preparation.fade_frames)
    if into_fade[-1] < 0:
        return None
    falling = 0.5 + 0.5 * np.cos(np.pi * np.maximum(into_fade + 0.5, 0.0) / max(1, preparation.fade_frames))
    gains: NDArray[np.float64] = np.where(into_fade >= 0, falling, 1.0)
    return gains


def _resampled(blocks: Iterator[Block], source: Source, rate_hz: int, channels: int) -> Iterator[Block]:
    """At another rate, with the exact length: soxr's very high quality, which does not shift the signal."""
    left = resampled_frames(source, rate_hz)
    with Resampler(source.sample_rate_hz, rate_hz, channels) as resampler:
        for block in resampler.stream(blocks):
            part = block[:left]
            left -= len(part)
            yield part
    # Rounding of the length can leave one frame to be filled.
    if left:
        yield np.zeros((left, channels))


class Resampler:
    """Every channel of a programme in a stream and a thread of its own: one knows nothing of the others."""

    def __init__(self, rate_hz: int, to_hz: int, channels: int) -> None:
        self._streams = [soxr.ResampleStream(rate_hz, to_hz, 1, "float64", "VHQ") for _ in range(channels)]
        self._threads = [own_thread() for _ in range(channels)]

    def stream(self, blocks: Iterable[Block]) -> Iterator[Block]:
        """Frames × channels at the other rate, to the end; no channel waits for another within BLOCKS_AHEAD."""
        begun: deque[list[Future[NDArray[np.float64]]]] = deque()
        for block in blocks:
            begun.append(self._begin(block))
            if len(begun) > BLOCKS_AHEAD:
                yield _together(begun.popleft())
        begun.append(self._begin(np.zeros((0, len(self._streams))), is_last=True))
        while begun:
            yield _together(begun.popleft())

    def _begin(self, block: Block, is_last: bool = False) -> list[Future[NDArray[np.float64]]]:
        def resampled(channel: int) -> NDArray[np.float64]:
            column = np.ascontiguousarray(block[:, channel], np.float64)
            part: NDArray[np.float64] = self._streams[channel].resample_chunk(column, is_last)
            return part

        return [thread.submit(resampled, channel) for channel, thread in enumerate(self._threads)]

    def __enter__(self) -> "Resampler":
        return self

    def __exit__(self, kind: type | None, error: BaseException | None, trace: TracebackType | None) -> None:
        for thread in self._threads:
            thread.shutdown()


def _together(begun: list[Future[NDArray[np.float64]]]) -> NDArray[np.float64]:
    return np.stack([each.result() for each in begun], axis=1)


def prepare(
    path: Path,
    preparation: Preparation = UNTOUCHED,
    hops_folder: Path | None = None,
    progress: Progress | None = None,
    most_kept_bytes: int = 0,
) -> Prepared:
    """Measure a prepared signal, and keep it where it takes no more than so many bytes.

    Raises the NiceLevelError named for the cause where the file cannot be used.
    """
    kept = None
    if preparation.is_nothing:
        reading = measure(path, progress, hops_folder)
    else:
        try:
            reading, kept = _measure(path, preparation, True, hops_folder, progress, most_kept_bytes)
        except PastRangeError:
            reading, kept = _measure(path, preparation, False, hops_folder, progress, most_kept_bytes)
    return Prepared(reading, open_hops(hops_folder) if hops_folder else None, preparation, kept)


def _measure(
    path: Path,
    preparation: Preparation,
    as_codes: bool,
    hops_folder: Path | None,
    progress: Progress | None,
    most_kept_bytes: int,
) -> tuple[Reading, Kept | None]:
    """Of a signal in steps, the codes themselves may be measured; raises PastRangeError where they do not reach."""
    with take_in(path) as audio:
        source, done = prepared_source(audio.source, preparation), 0
        coding = HELD if as_codes and is_in_steps(audio.source, preparation) else DOUBLE
        codes = empty_codes(source, coding) if bytes_of(source, coding) <= most_kept_bytes else None
        made = coded_blocks(audio, preparation, coding, codes)
        with hop_files(source, hops_folder) as hops, ahead(made) as blocks:
            meter = Meter(source, coding, hops, STRETCH_S)
            for block in blocks:
                meter.feed(block)
                done += len(block)
                if progress:
                    progress(done / source.frames)
            return meter.reading(), None if codes is None else Kept(codes)


def bytes_of(source: Source, coding: Coding) -> int:
    """What a signal takes in memory."""
    return source.frames * source.channels * coding.item_bytes


def empty_codes(source: Source, coding: Coding) -> Codes:
    """Room for a signal."""
    codes: Codes = np.empty((source.frames, source.channels), coding.dtype)
    return codes


def coded_blocks(
    audio: Audio, preparation: Preparation, coding: Coding, codes: Codes | None
) -> Iterator[NDArray[Any]]:
    """The blocks of a prepared signal in a coding, put into their room where there is one. Raises PastRangeError."""
    done, is_rounded = 0, coding.is_whole and is_in_steps(audio.source, preparation)
    for block in (_worked_on if is_rounded else prepared_blocks)(audio, preparation, BLOCK_FRAMES):
        room: NDArray[Any] = np.empty(block.shape, coding.dtype) if codes is None else codes[done : done + len(block)]
        if coding.is_whole:
            hold(block, room)
        else:
            room[:] = block
        yield room
        done += len(block)
