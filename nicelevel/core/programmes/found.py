"""The programmes of a file: as they were typed, else as the file itself says, else by the number of its channels."""

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from ..errors import DamagedError
from ..files import take_in
from ..files.wave_chunks import read_chunks
from ..values import Source
from .adm_read import programmes_of_adm
from .programme import Programme, by_count, count_note, left_out_note, refuse_channels_past


@dataclass(frozen=True)
class Programmes:
    """are_named: whether the file or a person said what they are; notes: sentences of what was not clear."""

    source: Source
    programmes: tuple[Programme, ...]
    notes: tuple[str, ...]
    are_named: bool


def programmes_of(path: Path, asked: Sequence[Programme] = (), source: Source | None = None) -> Programmes:
    """asked: as they were typed; source: the file as it was described before, where that need not be done again.

    Raises the NiceLevelError named for the cause where the file cannot be used, UnsupportedError where it has not the
    channels that are asked for.
    """
    if source is None:
        with take_in(path) as audio:
            source = audio.source
    if asked:
        refuse_channels_past(asked, source.channels)
        whole = tuple(range(1, source.channels + 1))
        meant = tuple(_as_file(each, source) if each.channels == whole else each for each in asked)
        return Programmes(source, meant, _said(left_out_note(meant, source.channels)), True)
    found, doubt = _embedded(path, source)
    if found:
        return Programmes(source, found, _said(doubt, left_out_note(found, source.channels)), True)
    return Programmes(source, by_count(source.layout), _said(doubt, count_note(source.layout)), False)


def _as_file(programme: Programme, source: Source) -> Programme:
    """All channels of a file are what its own mask says."""
    return Programme(programme.label, programme.channels, source.layout)


def _embedded(path: Path, source: Source) -> tuple[tuple[Programme, ...], str | None]:
    chunks = read_chunks(path, (b"axml", b"chna"))
    if len(chunks) < 2:
        return (), None
    try:
        found = programmes_of_adm(chunks[b"axml"], chunks[b"chna"])
    except DamagedError as error:
        return (), error.message
    if found and max(max(each.channels) for each in found) > source.channels:
        return (), "The programmes that the file describes have more channels than it holds."
    return found, None


def _said(*notes: str | None) -> tuple[str, ...]:
    return tuple(note for note in notes if note)
