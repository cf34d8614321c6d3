"""What a contribution says of itself: read from its chunks, believed in nothing."""

import struct
from dataclasses import dataclass
from pathlib import Path
from xml.etree import ElementTree

from ..errors import DamagedError
from ..files.wave_chunks import read_chunks, time_reference_of
from ..programmes import Programmes, programmes_of
from ..programmes.levels import Levels, read_levels
from .timecode import FRAME_RATES, FrameRate


@dataclass(frozen=True)
class Told:
    """levels: stated of each programme; rate, start: None where they are not stated; guard_frames: samples before the
    programmes begin; time_reference: of the first sample, since midnight."""

    found: Programmes
    levels: tuple[Levels, ...]
    rate: FrameRate | None
    start: str | None
    guard_frames: int
    time_reference: int


def told_by(path: Path) -> Told:
    """Raises DamagedError where it is no contribution: without programmes that it names, or without a start."""
    found = programmes_of(path)
    chunks = read_chunks(path, (b"axml", b"bext"))
    if not found.are_named or b"axml" not in chunks:
        raise DamagedError("It does not describe its programmes.")
    if b"bext" not in chunks:
        raise DamagedError("It does not say when it begins: there is no bext.")
    try:
        root = ElementTree.fromstring(chunks[b"axml"])
        reference = time_reference_of(chunks[b"bext"])
    except (ElementTree.ParseError, struct.error) as error:
        raise DamagedError("What it says of itself cannot be read.") from error
    elements = [each for each in root.iter() if _plain(each) == "audioProgramme"]
    rate_hz = found.source.sample_rate_hz
    if not elements:
        raise DamagedError("It does not describe its programmes.")
    begins_s = {each.get("start", "") for each in elements}
    guard_frames = round(_seconds(min(begins_s)) * rate_hz)
    if guard_frames >= found.source.frames:
        raise DamagedError("By what it says, its programmes begin after its end.")
    return Told(
        found,
        tuple(map(read_levels, elements)),
        FRAME_RATES.get(_text(root, "frameRate")),
        _text(root, "timecode") or None,
        guard_frames,
        reference,
    )


def _plain(element: ElementTree.Element) -> str:
    return str(element.tag).rpartition("}")[2]


def _text(root: ElementTree.Element, name: str) -> str:
    return next((each.text or "" for each in root.iter() if _plain(each) == name), "").strip()


def _seconds(text: str) -> float:
    """hh:mm:ss.zzzzz; 0 where it is none."""
    try:
        hours, minutes, seconds = text.split(":")
        return 3600 * int(hours) + 60 * int(minutes) + float(seconds)
    except ValueError:
        return 0.0
