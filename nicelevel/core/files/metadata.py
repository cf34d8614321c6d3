"""What a file says about itself: read from a source, carried to a deliverable, and what had no place there."""

import math
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Literal

from ..values import OutputFormat
from .tags import Artwork, can_hold, read_tags, tag_dialect, write_tags
from .wave_chunks import (
    INFO_IDS,
    Cue,
    append_chunks,
    cue_chunks,
    info_chunk,
    moved_bext,
    read_chunks,
    read_cues,
    read_info,
)

Level = Literal["none", "tags", "all"]


@dataclass(frozen=True)
class Metadata:
    """What a source says: tags by name, artwork, the body of `bext`, cue points by frame."""

    tags: dict[str, str]
    artwork: Artwork | None = None
    bext: bytes | None = None
    cues: tuple[Cue, ...] = ()


@dataclass(frozen=True)
class Carried:
    """What a deliverable says of what its source said, and what it does not; in words."""

    kept: tuple[str, ...] = ()
    dropped: tuple[str, ...] = ()


def read_metadata(path: Path) -> Metadata:
    """What a file says about itself; nothing where it cannot be understood."""
    chunks = read_chunks(path, (b"bext", b"cue ", b"adtl", b"INFO"))
    tags, artwork = read_tags(path)
    tags = read_info(chunks.get(b"INFO", b"")) | tags
    return Metadata(tags, artwork, chunks.get(b"bext"), read_cues(chunks))


def carry_metadata(
    source: Path, rate_hz: int, target: Path, output: OutputFormat, level: Level, frames: int | None = None
) -> Carried:
    """Write into a deliverable what its source says, as far as is asked for and its format has a place.

    rate_hz: of the source; places in time move with the sample rate. frames: of the deliverable where it was cut:
    what was marked after its end is dropped. No sample is touched.
    """
    said = read_metadata(source)
    cut_at = math.inf if frames is None else frames * rate_hz / output.sample_rate_hz
    here = replace(said, cues=tuple(cue for cue in said.cues if cue.frame < cut_at))
    asked = here if level == "all" else Metadata(here.tags if level == "tags" else {})
    if output.container == "wav":
        held = replace(asked, tags={name: asked.tags[name] for name in asked.tags if name in INFO_IDS}, artwork=None)
        _write_wave(target, held, rate_hz, output.sample_rate_hz)
    else:
        held = _write_tagged(target, asked, tag_dialect(output.container, output.encoding))
    kept, everything = _words(held), _words(said)
    return Carried(tuple(kept), tuple(each for each in everything if each not in kept))


def _write_wave(target: Path, held: Metadata, from_hz: int, to_hz: int) -> None:
    chunks = info_chunk(held.tags)
    if held.bext:
        chunks.append((b"bext", moved_bext(held.bext, from_hz, to_hz)))
    chunks += cue_chunks([replace(cue, frame=round(cue.frame * to_hz / from_hz)) for cue in held.cues])
    append_chunks(target, chunks)


def _write_tagged(target: Path, asked: Metadata, dialect: str | None) -> Metadata:
    """Tags and artwork into a file of a kind that has a place for them; what it holds then."""
    if dialect is None:
        return Metadata({})
    held = Metadata({name: text for name, text in asked.tags.items() if can_hold(dialect, name)}, asked.artwork)
    if held.tags or held.artwork:
        write_tags(target, dialect, held.tags, held.artwork)
    return held


def _words(said: Metadata) -> list[str]:
    """Each thing that is said, in a word or two."""
    words = list(said.tags)
    words += ["artwork"] if said.artwork else []
    words += ["bext"] if said.bext else []
    count = len(said.cues)
    return words + ([f"{count} cue point{'s' if count != 1 else ''}"] if count else [])
