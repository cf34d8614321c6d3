"""Where it is written by how much a file was changed: a `TXXX` frame of our own in its ID3v2 tag (id3.org: ID3v2.2 to
2.4), put in and taken out so that no other byte of the tag changes.
"""

import re
import struct
from dataclasses import dataclass

from ..errors import DamagedError, UnsupportedError

NAME = b"NICE_LEVEL_STEPS"
_HEAD = 10
_EXTENDED, _FOOTER = 0x40, 0x10
_VALUE = re.compile(rb"([+-]\d{3})( in a tag of its own)?")
_OWN_TAG = b" in a tag of its own"


@dataclass(frozen=True)
class Change:
    """steps: that were added so far; start, end: of the frame that says so."""

    steps: int
    start: int
    end: int
    in_own_tag: bool


def tag_bytes(data: bytes | memoryview, at: int = 0) -> int:
    """How long the tag is that begins here, 0 where none does. Raises DamagedError where the file ends in it."""
    if data[at : at + 3] != b"ID3" or len(data) < at + _HEAD:
        return 0
    size = _HEAD + _from_syncsafe(data[at + 6 : at + 10]) + (_HEAD if data[at + 5] & _FOOTER else 0)
    if at + size > len(data):
        raise DamagedError("Its ID3 tag is longer than the file.")
    return size


def audio_start(data: memoryview) -> int:
    """Where the frames of a whole file begin: behind all tags at its head."""
    at = 0
    while size := tag_bytes(data, at):
        at += size
    return at


def change_in(data: bytes) -> Change | None:
    """What the first of some tags says of changes; None where it says nothing. data: all before the frames."""
    size = tag_bytes(data)
    if not size:
        return None
    version = data[3]
    head, wide = (6, 3) if version == 2 else (10, 4)
    name = b"TXX" if version == 2 else b"TXXX"
    for found in re.finditer(re.escape(name), data[:size]):
        start = found.start()
        body_bytes = _frame_bytes(data[start + wide : start + 2 * wide], version)
        body = data[start + head : min(size, start + head + body_bytes)]
        value = _our_value(body)
        if value and (told := _VALUE.fullmatch(value)):
            return Change(int(told[1]), start, start + head + body_bytes, told[2] is not None)
    return None


def _our_value(body: bytes) -> bytes | None:
    """What stands behind our name in a `TXXX`, in whatever encoding it was written again."""
    if not body or body[0] > 3:
        return None
    encoding = ("latin-1", "utf-16", "utf-16-be", "utf-8")[body[0]]
    try:
        name, _, value = body[1:].decode(encoding).partition("\0")
    except UnicodeDecodeError:
        return None
    stripped = value.replace("\ufeff", "").rstrip("\0").encode("ascii", "replace")
    return stripped if name.encode("ascii", "replace") == NAME else None


def _frame_bytes(field: bytes, version: int) -> int:
    return _from_syncsafe(field) if version == 4 else int.from_bytes(field, "big")


def with_change(data: bytes, steps: int) -> bytes:
    """The same tags, the first saying that so many steps were added in all; without the frame where that is none.

    data: all before the frames. Raises UnsupportedError where a tag is of a kind that nothing can be put into.
    """
    known = change_in(data)
    if known is None and not steps:
        return data
    if known is None and not tag_bytes(data):
        frame = _frame(3, steps, in_own_tag=True)
        return b"ID3\x03\x00\x00" + _to_syncsafe(len(frame)) + frame + data
    if known is None:
        _refuse_what_holds_nothing(data)
        at = _HEAD + _extended_bytes(data)
        return _resized(data[:at] + _frame(data[3], steps, in_own_tag=False) + data[at:], data)
    if not steps and known.in_own_tag and not _others(data, known):
        return data[tag_bytes(data) :]
    frame = _frame(data[3], steps, known.in_own_tag) if steps else b""
    return _resized(data[: known.start] + frame + data[known.end :], data)


def _others(data: bytes, known: Change) -> bool:
    """Whether the tag holds anything but our frame."""
    size = tag_bytes(data)
    return any(data[_HEAD : known.start]) or any(data[known.end : size])


def _frame(version: int, steps: int, in_own_tag: bool) -> bytes:
    body = b"\0" + NAME + b"\0" + f"{steps:+04d}".encode() + (_OWN_TAG if in_own_tag else b"")
    if version == 2:
        return b"TXX" + len(body).to_bytes(3, "big") + body
    size = _to_syncsafe(len(body)) if version == 4 else struct.pack(">I", len(body))
    return b"TXXX" + size + b"\0\0" + body


def _refuse_what_holds_nothing(data: bytes) -> None:
    version, flags = data[3], data[5]
    if version not in (2, 3, 4) or (version == 2 and flags & _EXTENDED):
        raise UnsupportedError(f"Its ID3 tag is of version 2.{version}, which nothing can be written into.")
    if flags & _EXTENDED and version > 2:
        crc = data[_HEAD + 4] & 0x80 if version == 3 else data[_HEAD + 5] & 0x20
        if crc:
            raise UnsupportedError("Its ID3 tag has a checksum over all it holds: nothing is put into it.")


def _extended_bytes(data: bytes) -> int:
    if not data[5] & _EXTENDED or data[3] == 2:
        return 0
    field = data[_HEAD : _HEAD + 4]
    return _from_syncsafe(field) if data[3] == 4 else 4 + int.from_bytes(field, "big")


def _resized(made: bytes, before: bytes) -> bytes:
    """The same with the size of its tag stated anew, in the footer too."""
    more = len(made) - len(before)
    size = _from_syncsafe(before[6:10]) + more
    if not 0 <= size < 1 << 28:
        raise UnsupportedError("Its ID3 tag is as long as one can be.")
    stated = _to_syncsafe(size)
    made = made[:6] + stated + made[10:]
    if before[5] & _FOOTER:
        at = _HEAD + size + 6
        made = made[:at] + stated + made[at + 4 :]
    return made


def _from_syncsafe(field: bytes | memoryview) -> int:
    return field[0] << 21 | field[1] << 14 | field[2] << 7 | field[3]


def _to_syncsafe(size: int) -> bytes:
    return bytes((size >> 21 & 127, size >> 14 & 127, size >> 7 & 127, size & 127))
