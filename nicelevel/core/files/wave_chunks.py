"""Chunks of a WAVE file that carry no samples: read from one, appended to another.

Cue points (RIFF, Microsoft and IBM 1991), LIST INFO (the same), and `bext` of Broadcast Wave (EBU Tech 3285, version
2, whose loudness fields are in hundredths).
"""

import math
import os
import struct
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from fractions import Fraction
from pathlib import Path
from typing import BinaryIO

from ..values import Reading
from .headers import WAVE_MAGICS, chunks_of

INFO_IDS = {
    "title": b"INAM",
    "artist": b"IART",
    "album": b"IPRD",
    "date": b"ICRD",
    "genre": b"IGNR",
    "copyright": b"ICOP",
    "comment": b"ICMT",
    "tracknumber": b"ITRK",
}

_BEXT_BYTES = 602
_DESCRIPTION_BYTES = 256
_TIME_AT, _LOUDNESS_AT = 338, 412
_LONGEST_CHUNK = 16 * 1024 * 1024
_NO_LOUDNESS = 0x7FFF


@dataclass(frozen=True)
class Cue:
    """A marked frame with its name."""

    frame: int
    name: str


def read_chunks(path: Path, names: Sequence[bytes]) -> dict[bytes, bytes]:
    """Bodies of the chunks of a WAVE file that are asked for, lists by their kind; nothing where it is none."""
    with path.open("rb") as file:
        found: dict[bytes, bytes] = {}
        for name, size, start in _walk(file):
            file.seek(start)
            key = file.read(4) if name == b"LIST" else name
            if key in names and size <= _LONGEST_CHUNK:
                file.seek(start)
                found.setdefault(key, file.read(size))
        return found


def _walk(file: BinaryIO) -> Iterator[tuple[bytes, int, int]]:
    """Name, size and start of body of every chunk of a WAVE file; none of another file."""
    head = file.read(12)
    if head[:4] in WAVE_MAGICS and head[8:12] == b"WAVE":
        yield from chunks_of(file, "<", file.seek(0, os.SEEK_END))


def append_chunks(path: Path, chunks: Sequence[tuple[bytes, bytes]]) -> None:
    """Put chunks behind the samples of a WAVE file of ours, and make its stated size true again."""
    if not chunks:
        return
    with path.open("r+b") as file:
        magic = file.read(4)
        end = file.seek(0, os.SEEK_END)
        for name, body in chunks:
            end += file.write(struct.pack("<4sI", name, len(body)) + body + b"\0" * (len(body) % 2))
        file.seek(20 if magic == b"RF64" else 4)
        file.write(struct.pack("<Q" if magic == b"RF64" else "<I", end - 8))


def read_cues(chunks: Mapping[bytes, bytes]) -> tuple[Cue, ...]:
    """Cue points of a file in their order, with the names that its label list has for them."""
    body, names = chunks.get(b"cue ", b""), _labels(chunks.get(b"adtl", b""))
    count = struct.unpack_from("<I", body)[0] if len(body) >= 4 else 0
    points = [struct.unpack_from("<II4sIII", body, 4 + 24 * at) for at in range(min(count, (len(body) - 4) // 24))]
    cues = [Cue(point[5], names.get(point[0], "")) for point in points]
    return tuple(sorted(cues, key=lambda cue: cue.frame))


def _labels(body: bytes) -> dict[int, str]:
    if body[:4] != b"adtl":
        return {}
    found, at = {}, 4
    while at + 12 <= len(body):
        name, size, number = struct.unpack_from("<4sII", body, at)
        if name == b"labl":
            found[number] = body[at + 12 : at + 8 + size].split(b"\0")[0].decode("utf-8", "replace")
        at += 8 + size + size % 2
    return found


def cue_chunks(cues: Sequence[Cue]) -> list[tuple[bytes, bytes]]:
    """The chunks that hold cue points and their names."""
    if not cues:
        return []
    points = b"".join(
        struct.pack("<II4sIII", number, cue.frame, b"data", 0, 0, cue.frame) for number, cue in enumerate(cues, 1)
    )
    labels = b"".join(_label(number, cue.name) for number, cue in enumerate(cues, 1) if cue.name)
    listed = [(b"LIST", b"adtl" + labels)] if labels else []
    return [(b"cue ", struct.pack("<I", len(cues)) + points), *listed]


def _label(number: int, name: str) -> bytes:
    text = name.encode() + b"\0"
    return struct.pack("<4sII", b"labl", 4 + len(text), number) + text + b"\0" * (len(text) % 2)


def info_chunk(tags: Mapping[str, str]) -> list[tuple[bytes, bytes]]:
    """LIST INFO with the tags that it has a place for."""
    body = b""
    for name, key in INFO_IDS.items():
        if name in tags:
            text = tags[name].encode() + b"\0"
            body += struct.pack("<4sI", key, len(text)) + text + b"\0" * (len(text) % 2)
    return [(b"LIST", b"INFO" + body)] if body else []


def read_info(body: bytes) -> dict[str, str]:
    """Tags of a LIST INFO chunk."""
    names, found, at = {key: name for name, key in INFO_IDS.items()}, {}, 4
    while body[:4] == b"INFO" and at + 8 <= len(body):
        key, size = struct.unpack_from("<4sI", body, at)
        text = body[at + 8 : at + 8 + size].split(b"\0")[0].decode("utf-8", "replace").strip()
        if key in names and text:
            found[names[key]] = text
        at += 8 + size + size % 2
    return found


def moved_bext(body: bytes, from_rate_hz: int, to_rate_hz: int, later_s: Fraction = Fraction(0)) -> bytes:
    """A `bext` body as version 2, its time reference in frames of another rate, its loudness still unknown.

    later_s: by how much later than before the audio begins; never before midnight.
    """
    head = bytearray(body[:_BEXT_BYTES].ljust(_BEXT_BYTES, b"\0"))
    (frames,) = struct.unpack_from("<Q", head, _TIME_AT)
    struct.pack_into("<QH", head, _TIME_AT, max(0, round((Fraction(frames, from_rate_hz) + later_s) * to_rate_hz)), 2)
    struct.pack_into("<5h", head, _LOUDNESS_AT, *[_NO_LOUDNESS] * 5)
    return bytes(head) + body[_BEXT_BYTES:]


def new_bext(description: str, time_reference: int, reading: Reading) -> bytes:
    """A `bext` body of version 2 without dates. time_reference: frames since midnight."""
    body = bytearray(_BEXT_BYTES)
    said = description.encode("ascii", "replace")[:_DESCRIPTION_BYTES]
    body[: len(said)] = said
    struct.pack_into("<QH", body, _TIME_AT, time_reference, 2)
    struct.pack_into("<5h", body, _LOUDNESS_AT, *_hundredths(reading))
    return bytes(body)


def time_reference_of(bext: bytes) -> int:
    """Frames since midnight. Raises struct.error where it is cut off."""
    (frames,) = struct.unpack_from("<Q", bext, _TIME_AT)
    return int(frames)


def set_bext_loudness(path: Path, reading: Reading) -> None:
    """Write what was measured of a file into its `bext`. No sample is touched."""
    with path.open("r+b") as file:
        for name, _, start in _walk(file):
            if name == b"bext":
                file.seek(start + _LOUDNESS_AT)
                file.write(struct.pack("<5h", *_hundredths(reading)))
                return


def _hundredths(reading: Reading) -> list[int]:
    figures = (
        reading.integrated_lufs,
        reading.loudness_range_lu,
        reading.true_peak_dbtp,
        reading.max_momentary_lufs,
        reading.max_short_term_lufs,
    )
    return [
        round(100 * value) if value is not None and math.isfinite(value) and abs(value) < 99.99 else _NO_LOUDNESS
        for value in figures
    ]
