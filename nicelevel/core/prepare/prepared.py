"""The prepared signal: a source after its channel work and resampling, as blocks and as a reading."""

import os
from collections.abc import Callable, Hashable, Iterator
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, replace
from functools import cached_property
from pathlib import Path
from types import TracebackType

import numpy as np
import soxr
from numpy.typing import NDArray

from ..ahead import ahead
from ..channels import Layout, layout_of_name
from ..files import take_in
from ..files.blocks import Block
from ..files.read import Audio
from ..measure import BLOCK_FRAMES, Meter, hop_files, measure
from ..measure.gating import SortedBlocks, gating_blocks, short_term_steps
from ..measure.hop_files import Hops, open_hops
from ..progress import Progress
from ..values import Preparation, Reading, Source
from .steps import UNTOUCHED, resampled_frames


@dataclass(frozen=True)
class Prepared:
    """What plans are made from: the reading of a prepared signal with its curves, and its hops where a limiter may be
    asked for."""

    reading: Reading
    hops: Hops | None = None
    preparation: Preparation = UNTOUCHED

    @cached_property
    def solved(self) -> dict[Hashable, list[tuple[float, float]]]:
        """What limiting was found to lead to, for whoever plans next: see `plan.limit`."""
        return {}

    @cached_property
    def blocks(self) -> SortedBlocks:
        """The 400 ms blocks of the two gates."""
        return SortedBlocks(gating_blocks(self.reading.curves.energies))

    @cached_property
    def short_term_sorted(self) -> NDArray[np.float64]:
        """Energies of the 3 s windows every 100 ms, in ascending order: a gain does not change that."""
        return np.sort(short_term_steps(self.reading.curves.energies))


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
    blocks = audio.blocks(frames)
    blocks = (with_channels(block, preparation) for block in blocks)
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
    """At another rate, with the exact length: soxr's very high quality, which does not shift the signal.

    A channel knows nothing of the others: they are computed side by side.
    """
    left = resampled_frames(source, rate_hz)
    with Resampler(source.sample_rate_hz, rate_hz, channels) as resampler:
        for block in blocks:
            part = resampler.next(block)[:left]
            left -= len(part)
            yield part
        last = resampler.next(np.zeros((0, channels)), is_last=True)[:left]
    yield last
    # Rounding of the length can leave one frame to be filled.
    if left > len(last):
        yield np.zeros((left - len(last), channels))


class Resampler:
    """Every channel of a programme in a stream of its own, as many at once as there are processors."""

    def __init__(self, rate_hz: int, to_hz: int, channels: int) -> None:
        self._streams = [soxr.ResampleStream(rate_hz, to_hz, 1, "float64", "VHQ") for _ in range(channels)]
        self._pool = ThreadPoolExecutor(min(channels, os.cpu_count() or 1))

    def next(self, block: Block, is_last: bool = False) -> Block:
        """The next frames × channels at the other rate."""
        columns = np.ascontiguousarray(block.T, np.float64)
        parts = self._pool.map(lambda stream, column: stream.resample_chunk(column, is_last), self._streams, columns)
        return np.stack(list(parts), axis=1)

    def __enter__(self) -> "Resampler":
        return self

    def __exit__(self, kind: type | None, error: BaseException | None, trace: TracebackType | None) -> None:
        self._pool.shutdown()


def prepare(
    path: Path,
    preparation: Preparation = UNTOUCHED,
    hops_folder: Path | None = None,
    progress: Progress | None = None,
) -> Prepared:
    """Measure a prepared signal. Raises the NiceLevelError named for the cause where the file cannot be used."""
    if preparation.is_nothing:
        reading = measure(path, progress, hops_folder)
    else:
        reading = _measure(path, preparation, hops_folder, progress)
    return Prepared(reading, open_hops(hops_folder) if hops_folder else None, preparation)


def _measure(path: Path, preparation: Preparation, hops_folder: Path | None, progress: Progress | None) -> Reading:
    with take_in(path) as audio:
        source, done = prepared_source(audio.source, preparation), 0
        with hop_files(source, hops_folder) as hops:
            meter = Meter(source, hop_files=hops)
            with ahead(prepared_blocks(audio, preparation, BLOCK_FRAMES)) as blocks:
                for block in blocks:
                    meter.feed(block)
                    done += len(block)
                    if progress:
                        progress(done / source.frames)
            return meter.reading()
