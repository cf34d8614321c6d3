"""Several files side by side in one WAVE file, sample for sample, with what each of them is written into it."""

from collections.abc import Iterator, Sequence
from contextlib import ExitStack
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from ..channels import Layout
from ..digest import sha256_of
from ..errors import DamagedError, NiceLevelError, UnsupportedError
from ..files import StagedFile, take_in
from ..files.containers import data_bytes, sample_bits
from ..files.staged import speaking_errors
from ..files.wave_header import wave_header
from ..files.write import packed
from ..progress import Progress, share_of
from ..values import OutputFormat, Source
from .adm import Carried, adm_chunks
from .found import programmes_of
from .in_step import BLOCK_SAMPLES, InStep, PartError
from .programme import MOST_CHANNELS, Programme
from .words import common_encoding, wave_format


@dataclass(frozen=True)
class Joined:
    """programmes: with the number of the file that each came from, from 0; notes: what was filled up."""

    path: Path
    sha256: str
    frames: int
    output: OutputFormat
    programmes: tuple[tuple[Programme, int], ...]
    notes: tuple[str, ...]


@dataclass(frozen=True)
class Head:
    """What a file has before its programmes: frames of silence, chunks beside their description, what that states
    more; is_bw64: as BW64 whatever its size."""

    guard_frames: int = 0
    chunks: tuple[tuple[bytes, bytes], ...] = ()
    carried: Carried | None = None
    is_bw64: bool = False


PLAIN = Head()


def join(
    paths: Sequence[Path],
    to: Path,
    labels: Sequence[str] = (),
    progress: Progress | None = None,
    head: Head = PLAIN,
) -> Joined:
    """Write files side by side in their order, read back what was written and compare every sample.

    labels: of the files in their order, as far as they go; the others are called by their names. A file that holds
    several programmes brings all of them, unless it is given a label. Raises PartError where a file cannot be used or
    does not fit, OutputExistsError where `to` is taken.
    """
    found = [_described(number, path) for number, path in enumerate(paths)]
    sources = [source for source, _ in found]
    refuse_what_does_not_fit(sources)
    programmes = tuple(_side_by_side(found, paths, labels))
    frames = max(each.frames for each in sources)
    output = wave_format(common_encoding(sources), sources[0].sample_rate_hz, _layout_of_all(programmes, sources))
    staged = StagedFile(to)
    try:
        with speaking_errors(to):
            named = [each for each, _ in programmes]
            _write(paths, staged.path, output, frames, named, head, share_of(progress, 0.0, 0.5))
        staged.settle()
        _compare(paths, staged.path, output, head.guard_frames, share_of(progress, 0.5, 0.5))
        staged.publish()
    finally:
        staged.discard()
    return Joined(
        to, sha256_of(to), head.guard_frames + frames, output, programmes, tuple(_filled_up(paths, sources, frames))
    )


def _described(number: int, path: Path) -> tuple[Source, tuple[Programme, ...]]:
    """A file by its header, and the programmes that it names itself."""
    try:
        found = programmes_of(path)
    except NiceLevelError as error:
        raise PartError(number, error) from error
    return found.source, found.programmes if found.are_named else ()


def header_of(number: int, path: Path) -> Source:
    """What one of several files is by its header. Raises PartError."""
    return _described(number, path)[0]


def refuse_what_does_not_fit(sources: Sequence[Source]) -> None:
    """Raises PartError where files cannot stand side by side; told by their headers."""
    rate_hz = sources[0].sample_rate_hz
    for number, each in enumerate(sources):
        if each.sample_rate_hz != rate_hz:
            said = f"It has {each.sample_rate_hz} Hz, the first file {rate_hz} Hz: one file has one rate."
            raise PartError(number, UnsupportedError(said))
    done = 0
    for number, each in enumerate(sources):
        done += each.channels
        if done > MOST_CHANNELS:
            said = f"With this file it would be {done} channels; one file holds at most {MOST_CHANNELS}."
            raise PartError(number, UnsupportedError(said))


def _side_by_side(
    found: Sequence[tuple[Source, tuple[Programme, ...]]], paths: Sequence[Path], labels: Sequence[str]
) -> Iterator[tuple[Programme, int]]:
    """Every programme with the channels that it has in the joined file, and its file's number."""
    done = 0
    for number, (source, own) in enumerate(found):
        label = labels[number] if number < len(labels) else paths[number].stem
        whole = Programme(label, tuple(range(1, source.channels + 1)), source.layout)
        for each in own if _brings_its_own(own) and number >= len(labels) else (whole,):
            yield Programme(each.label, tuple(done + channel for channel in each.channels), each.layout), number
        done += source.channels


def _brings_its_own(own: Sequence[Programme]) -> bool:
    """Whether a file has several, and no channel is in two: in what we write each is in one."""
    channels = [channel for each in own for channel in each.channels]
    return len(own) > 1 and len(set(channels)) == len(channels)


def _layout_of_all(programmes: Sequence[tuple[Programme, int]], sources: Sequence[Source]) -> Layout:
    """One programme keeps its mask; of several the channels together are no layout."""
    if len(programmes) == 1:
        return programmes[0][0].layout
    return Layout("unknown", (None,) * sum(each.channels for each in sources))


def _write(
    paths: Sequence[Path],
    to: Path,
    output: OutputFormat,
    frames: int,
    programmes: Sequence[Programme],
    head: Head,
    progress: Progress | None,
) -> None:
    span = head.guard_frames, head.guard_frames + frames
    described = adm_chunks(programmes, output.sample_rate_hz, span, sample_bits(output), head.carried)
    size_bytes = data_bytes(output, span[1])
    with ExitStack() as opened, to.open("wb") as file:
        file.write(wave_header(output, size_bytes, (*head.chunks, *described), b"BW64", head.is_bw64))
        for first, last in _blocks(head.guard_frames, output):
            file.write(b"\0" * data_bytes(output, last - first))
        parts = [InStep(opened.enter_context(take_in(path)), number) for number, path in enumerate(paths)]
        for first, last in _blocks(frames, output):
            file.write(packed(np.concatenate([each.words(last - first, output) for each in parts], axis=1), output))
            if progress:
                progress(last / frames)
        file.write(b"\0" * (size_bytes % 2))


def _blocks(frames: int, output: OutputFormat) -> Iterator[tuple[int, int]]:
    size = max(1, BLOCK_SAMPLES // len(output.layout.positions))
    return ((first, min(first + size, frames)) for first in range(0, frames, size))


def _compare(
    paths: Sequence[Path], written: Path, output: OutputFormat, guard_frames: int, progress: Progress | None
) -> None:
    """Raises DamagedError where what was written is not silence and then what was read, sample for sample."""
    with ExitStack() as opened:
        whole = opened.enter_context(take_in(written))
        frames, joined = whole.source.frames - guard_frames, InStep(whole)
        for first, last in _blocks(guard_frames, output):
            if joined.words(last - first, output).any():
                raise DamagedError("What was written is not silent before it begins.")
        parts = [InStep(opened.enter_context(take_in(path)), number) for number, path in enumerate(paths)]
        for first, last in _blocks(frames, output):
            found = joined.words(last - first, output)
            if not np.array_equal(
                found, np.concatenate([each.words(last - first, output) for each in parts], axis=1)
            ):
                at_s = first / output.sample_rate_hz
                raise DamagedError(f"What was written is not what was read, from about {at_s:.1f} s on.")
            if progress:
                progress(last / frames)


def _filled_up(paths: Sequence[Path], sources: Sequence[Source], frames: int) -> Iterator[str]:
    """A sentence for each file that is shorter than the longest."""
    for path, source in zip(paths, sources, strict=True):
        if source.frames < frames:
            left_s = (frames - source.frames) / source.sample_rate_hz
            yield f"{path.name} is shorter than the longest: {left_s:.3f} s of silence were added at its end."
