"""What a file says about itself: read from a source, carried to a deliverable, and what had no place there."""

from dataclasses import dataclass, replace
from fractions import Fraction
from pathlib import Path
from typing import Literal

from ..signals.timeline import UNMOVED, Timeline
from ..values import OutputFormat
from .beside import files_of
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

MetadataLevel = Literal["none", "tags", "all"]


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
    """What a file says about itself; nothing where it cannot be understood. Of several side by side the first one."""
    path = files_of(path)[0]
    chunks = read_chunks(path, (b"bext", b"cue ", b"adtl", b"INFO"))
    tags, artwork = read_tags(path)
    tags = read_info(chunks.get(b"INFO", b"")) | tags
    return Metadata(tags, artwork, chunks.get(b"bext"), read_cues(chunks))


def carry_metadata(
    source: Path, rate_hz: int, target: Path, output: OutputFormat, level: MetadataLevel, timeline: Timeline = UNMOVED
) -> Carried:
    """Write into a deliverable what its source says, as far as is asked for and its format has a place.

    rate_hz: of the source; timeline: where its times lie in the deliverable: what was marked in what is not there is
    dropped. No sample is touched.
    """
    said = read_metadata(source)
    moved = _moved(said, rate_hz, output.sample_rate_hz, timeline)
    asked = moved if level == "all" else Metadata(said.tags if level == "tags" else {})
    if output.container == "wav":
        held = replace(asked, tags={name: asked.tags[name] for name in asked.tags if name in INFO_IDS}, artwork=None)
        _write_wave(target, held)
    else:
        held = _write_tagged(target, asked, tag_dialect(output.container, output.encoding))
    kept, everything = _words(held), _words(said)
    return Carried(tuple(kept), tuple(each for each in everything if each not in kept))


def _moved(said: Metadata, from_hz: int, to_hz: int, timeline: Timeline) -> Metadata:
    """The same in the time of the deliverable."""
    places_s = [(cue, timeline.to_output(Fraction(cue.frame, from_hz))) for cue in said.cues]
    cues = tuple(replace(cue, frame=round(place_s * to_hz)) for cue, place_s in places_s if place_s is not None)
    bext = moved_bext(said.bext, from_hz, to_hz, timeline.origin_s) if said.bext else None
    return replace(said, cues=cues, bext=bext)


def _write_wave(target: Path, held: Metadata) -> None:
    chunks = info_chunk(held.tags)
    if held.bext:
        chunks.append((b"bext", held.bext))
    chunks += cue_chunks(list(held.cues))
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
