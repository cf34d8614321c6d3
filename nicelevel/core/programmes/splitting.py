"""The programmes of one file as files of their own, sample for sample."""

from collections.abc import Sequence
from contextlib import ExitStack
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from ..digest import sha256_of
from ..errors import DamagedError
from ..files import StagedFile, take_in
from ..files.containers import data_bytes
from ..files.names import safe_name
from ..files.staged import speaking_errors
from ..files.wave_header import wave_header
from ..files.write import packed
from ..progress import Progress, share_of
from ..values import OutputFormat
from .found import programmes_of
from .in_step import BLOCK_SAMPLES, InStep
from .programme import Programme
from .words import common_encoding, in_words, wave_format


@dataclass(frozen=True)
class Part:
    """A programme that was written."""

    programme: Programme
    path: Path
    sha256: str


@dataclass(frozen=True)
class Split:
    """notes: sentences of what nothing in the file said, and of what was left out."""

    path: Path
    parts: tuple[Part, ...]
    notes: tuple[str, ...]


def split(
    path: Path,
    into: Path,
    asked: Sequence[Programme] = (),
    is_each: bool = False,
    progress: Progress | None = None,
) -> Split:
    """Write every programme of a file into a folder, read back what was written and compare every sample.

    asked: as they were typed; is_each: a file for each channel. All files are published, or none. Raises as
    `programmes_of`, and OutputExistsError where a name is taken.
    """
    found = programmes_of(path, asked)
    chosen = [one for each in found.programmes for one in (each.apart if is_each else (each,))]
    into.mkdir(parents=True, exist_ok=True)
    encoding = common_encoding([found.source])
    outputs = [wave_format(encoding, found.source.sample_rate_hz, each.layout) for each in chosen]
    with ExitStack() as held:
        staged = [StagedFile(into / name) for name in _names(chosen)]
        for each in staged:
            held.callback(each.discard)
        _write(path, chosen, outputs, staged, share_of(progress, 0.0, 0.5))
        for each in staged:
            each.settle()
        _compare(path, chosen, outputs, staged, share_of(progress, 0.5, 0.5))
        published = _published(staged)
    parts = tuple(Part(each, to, sha256_of(to)) for each, to in zip(chosen, published, strict=True))
    return Split(path, parts, found.notes)


def _names(programmes: Sequence[Programme]) -> list[str]:
    """File names from labels; equal ones are numbered, whatever the case of their letters."""
    names: list[str] = []
    taken: set[str] = set()
    for each in programmes:
        stem = safe_name(each.label)
        name, number = stem, 1
        while name.casefold() in taken:
            number += 1
            name = safe_name(f"{stem[:180]} {number}")
        taken.add(name.casefold())
        names.append(f"{name}.wav")
    return names


def _write(
    path: Path,
    programmes: Sequence[Programme],
    outputs: Sequence[OutputFormat],
    staged: Sequence[StagedFile],
    progress: Progress | None,
) -> None:
    with ExitStack() as opened:
        audio = opened.enter_context(take_in(path))
        frames = audio.source.frames
        files = []
        for output, each in zip(outputs, staged, strict=True):
            with speaking_errors(each.final):
                files.append(opened.enter_context(each.path.open("wb")))
                files[-1].write(wave_header(output, data_bytes(output, frames), big_magic=b"BW64"))
        done = 0
        for codes in audio.code_blocks(max(1, BLOCK_SAMPLES // audio.source.channels)):
            words = in_words(codes, audio.coding, outputs[0])
            for programme, output, file, each in zip(programmes, outputs, files, staged, strict=True):
                chosen: Any = np.ascontiguousarray(words[:, _columns(programme)])
                with speaking_errors(each.final):
                    file.write(packed(chosen, output))
            done += len(codes)
            if progress:
                progress(done / frames)
        for output, file, each in zip(outputs, files, staged, strict=True):
            with speaking_errors(each.final):
                file.write(b"\0" * (data_bytes(output, frames) % 2))
                file.flush()


def _columns(programme: Programme) -> list[int]:
    return [number - 1 for number in programme.channels]


def _compare(
    path: Path,
    programmes: Sequence[Programme],
    outputs: Sequence[OutputFormat],
    staged: Sequence[StagedFile],
    progress: Progress | None,
) -> None:
    """Raises DamagedError where what was written is not what was read, sample for sample."""
    with ExitStack() as opened:
        audio = opened.enter_context(take_in(path))
        written = [opened.enter_context(take_in(each.path)) for each in staged]
        frames = max(1, BLOCK_SAMPLES // audio.source.channels)
        blocks = [InStep(each) for each in written]  # decoders may give shorter blocks than they are asked for
        done = 0
        for codes in audio.code_blocks(frames):
            words = in_words(codes, audio.coding, outputs[0])
            for programme, output, back in zip(programmes, outputs, blocks, strict=True):
                if not np.array_equal(back.words(len(codes), output), words[:, _columns(programme)]):
                    at_s = done / audio.source.sample_rate_hz
                    raise DamagedError(
                        f"{programme.label} was not written as it was read, from about {at_s:.1f} s on."
                    )
            done += len(codes)
            if progress:
                progress(done / audio.source.frames)


def _published(staged: Sequence[StagedFile]) -> list[Path]:
    """All of them under their names; where one is taken those before it are taken away again."""
    published: list[Path] = []
    try:
        for each in staged:
            published.append(each.publish())
    except BaseException:
        for path in published:
            path.unlink(missing_ok=True)
        raise
    return published
