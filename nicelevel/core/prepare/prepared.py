"""The prepared signal: a source after its channel work and resampling, as blocks and as a reading."""

from collections import deque
from collections.abc import Callable, Iterable, Iterator, Sequence
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
from ..files.codes import DOUBLE, HELD, Coding, column_of
from ..files.read import Audio
from ..measure import BLOCK_FRAMES, Meter, hop_files, measure
from ..measure.gating import SortedBlocks, gating_blocks, short_term_steps
from ..measure.hop_files import Hops, open_hops
from ..progress import Progress
from ..units import db_from_energies
from ..values import Preparation, Reading, Source
from .held import Codes, Kept, PastRangeError, in_steps, is_in_steps, steps_of
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

    kept: the signal itself, where there was room for it; measure_hops: gives the hops where they are not at hand.
    """

    reading: Reading
    hops_at_hand: Hops | None = None
    preparation: Preparation = UNTOUCHED
    kept: Kept | None = None
    measure_hops: Callable[[], Hops] | None = None

    @property
    def hops(self) -> Hops | None:
        """What a limiter works on; None where none may be asked for."""
        return self.measure_hops() if self.measure_hops else self.hops_at_hand

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
    if preparation.is_nothing:
        return audio.blocks(frames)
    blocks = map(_side_by_side, _worked_on(audio, preparation, frames))
    return map(in_steps, blocks) if is_in_steps(audio.source, preparation) else blocks


Columns = Sequence[NDArray[np.floating[Any]]]
"""A block as one array for each channel: so it comes from the resampler, and so it is rounded quickest."""


def _side_by_side(columns: Columns) -> Block:
    return np.stack(columns, axis=1)


def _worked_on(audio: Audio, preparation: Preparation, frames: int) -> Iterator[Columns]:
    """After every step, before it is rounded."""
    rate_hz = preparation.sample_rate_hz
    columns: Iterator[Columns]
    if rate_hz is None:
        columns = (tuple(with_channels(block, preparation).T) for block in audio.blocks(frames))
    else:
        columns = _resampled(audio, preparation, rate_hz, frames)
    return columns if preparation.frames is None else _closed(columns, preparation)


def with_channels(block: NDArray[Any], preparation: Preparation) -> NDArray[Any]:
    """Frames × channels after the channel work of a preparation; where there is no matrix, also of codes."""
    if preparation.matrix is not None:
        block = block.astype(np.float64) @ np.array(preparation.matrix).T
    return block if preparation.channel is None else block[:, preparation.channel : preparation.channel + 1]


def _closed(blocks: Iterator[Columns], preparation: Preparation) -> Iterator[Columns]:
    """Cut to the length of a preparation, its end faded out."""
    assert preparation.frames
    done = 0
    for columns in blocks:
        part = [column[: preparation.frames - done] for column in columns]
        gains = closing_gains(preparation, done, len(part[0]))
        yield part if gains is None else [column.astype(np.float64) * gains for column in part]
        done += len(part[0])
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


def _resampled(audio: Audio, preparation: Preparation, rate_hz: int, frames: int) -> Iterator[Columns]:
    """At another rate, with the exact length: soxr's very high quality, which does not shift the signal."""
    source, coding = audio.source, None if preparation.matrix else audio.coding
    channels, left = prepared_source(source, preparation).channels, resampled_frames(source, rate_hz)
    # Codes become samples on the way into the resampler, each channel by itself.
    taken = audio.code_blocks(frames) if coding else audio.blocks(frames)
    with Resampler(source.sample_rate_hz, rate_hz, channels) as resampler:
        for columns in resampler.columns((with_channels(each, preparation) for each in taken), coding):
            yield [column[:left] for column in columns]
            left -= min(left, len(columns[0]))
    # Rounding of the length can leave one frame to be filled.
    if left:
        yield [np.zeros(left)] * channels


class Resampler:
    """Every channel of a programme in a stream and a thread of its own: one knows nothing of the others."""

    def __init__(self, rate_hz: int, to_hz: int, channels: int) -> None:
        self._streams = [soxr.ResampleStream(rate_hz, to_hz, 1, "float64", "VHQ") for _ in range(channels)]
        self._threads = [own_thread() for _ in range(channels)]

    def stream(self, blocks: Iterable[Block]) -> Iterator[Block]:
        """Frames × channels at the other rate, to the end."""
        return map(_side_by_side, self.columns(blocks))

    def columns(self, blocks: Iterable[NDArray[Any]], coding: Coding | None = None) -> Iterator[Columns]:
        """Each channel at the other rate, to the end; none waits for another within BLOCKS_AHEAD.

        blocks: frames × channels of samples, or of codes where a coding is given.
        """
        begun: deque[list[Future[NDArray[np.float64]]]] = deque()
        for block in blocks:
            begun.append(self._begin(block, coding))
            if len(begun) > BLOCKS_AHEAD:
                yield [each.result() for each in begun.popleft()]
        begun.append(self._begin(np.zeros((0, len(self._streams))), None, is_last=True))
        while begun:
            yield [each.result() for each in begun.popleft()]

    def _begin(
        self, block: NDArray[Any], coding: Coding | None, is_last: bool = False
    ) -> list[Future[NDArray[np.float64]]]:
        def resampled(channel: int) -> NDArray[np.float64]:
            column = column_of(block, channel, coding) if coding else block[:, channel]
            samples = np.ascontiguousarray(column, np.float64)
            part: NDArray[np.float64] = self._streams[channel].resample_chunk(samples, is_last)
            return part

        return [thread.submit(resampled, channel) for channel, thread in enumerate(self._threads)]

    def __enter__(self) -> "Resampler":
        return self

    def __exit__(self, kind: type | None, error: BaseException | None, trace: TracebackType | None) -> None:
        for thread in self._threads:
            thread.shutdown()


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
        coding = _coding(audio.source, preparation) if as_codes else DOUBLE
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


def hops_of_kept(prepared: Prepared, folder: Path) -> Hops:
    """The same hops as if they had been kept while the signal was measured, put into a folder."""
    source, kept = prepared.reading.source, prepared.kept
    assert kept
    coding = HELD if kept.codes.dtype == HELD.dtype else DOUBLE
    with hop_files(source, folder) as hops:
        meter = Meter(source, coding, hops, STRETCH_S)
        for first in range(0, len(kept.codes), BLOCK_FRAMES):
            meter.feed(kept.codes[first : first + BLOCK_FRAMES])
        meter.reading()
    return open_hops(folder)


def _coding(source: Source, preparation: Preparation) -> Coding:
    return HELD if is_in_steps(source, preparation) else DOUBLE


def bytes_to_keep(source: Source, preparation: Preparation) -> int:
    """What a source takes in memory once it is prepared; twice that where its samples pass the range of steps."""
    return bytes_of(prepared_source(source, preparation), _coding(source, preparation))


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
    done = 0
    for columns in _columns_to_code(audio, preparation, coding):
        frames, channels = len(columns[0]), len(columns)
        room: NDArray[Any] = np.empty((frames, channels), coding.dtype) if codes is None else codes[done:][:frames]
        for channel, column in enumerate(columns):
            room[:, channel] = steps_of(column) if coding.is_whole else column
        yield room
        done += frames


def _columns_to_code(audio: Audio, preparation: Preparation, coding: Coding) -> Iterator[Columns]:
    """Where codes are steps, rounding to them is all that is left."""
    if coding.is_whole and is_in_steps(audio.source, preparation):
        return _worked_on(audio, preparation, BLOCK_FRAMES)
    return (tuple(block.T) for block in prepared_blocks(audio, preparation, BLOCK_FRAMES))
