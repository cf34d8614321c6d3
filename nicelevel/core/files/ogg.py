"""The pages of an Ogg file: its stream's serial number, which encoders draw by chance, is settled (RFC 3533, 6)."""

import struct
from pathlib import Path
from typing import Literal

import numpy as np

from ..kernels import Integers, kernel

_HEAD = struct.Struct("<4sBBqIII")
_SERIAL_AT, _CHECKSUM_AT, _SEGMENTS_AT = 14, 22, 26
_LONGEST_PAGE_BYTES, _LAST = 65_307, 4
"""RFC 3533, 6: the longest page there can be, and the flag of the last one."""

_POLYNOMIAL = 0x04C11DB7


def _table() -> "np.ndarray":
    table = np.zeros(256, np.int64)
    for byte in range(256):
        value = byte << 24
        for _ in range(8):
            value = (value << 1) ^ (_POLYNOMIAL if value & 0x80000000 else 0)
        table[byte] = value & 0xFFFFFFFF
    return table


_TABLE = _table()


@kernel
def checksum_of(page: Integers, table: Integers) -> int:
    """The checksum of a page whose own checksum is 0."""
    value = 0
    for at in range(len(page)):
        value = ((value << 8) & 0xFFFFFFFF) ^ table[((value >> 24) & 0xFF) ^ page[at]]
    return value


Ending = Literal["whole", "inside a page", "without an end"]


def ending_of(path: Path) -> Ending:
    """How a file ends: with the page that says that it is the last, in the middle of one, or after any other."""
    size_bytes = path.stat().st_size
    with path.open("rb") as file:
        file.seek(max(0, size_bytes - _LONGEST_PAGE_BYTES))
        tail = file.read()
    at = tail.rfind(b"OggS")
    while at >= 0 and not _is_head(tail, at):
        at = tail.rfind(b"OggS", 0, at)
    if at < 0:
        return "inside a page"
    body = at + _SEGMENTS_AT + 1 + tail[at + _SEGMENTS_AT]
    end = body + sum(tail[at + _SEGMENTS_AT + 1 : body])
    if end > len(tail):
        return "inside a page"
    return "whole" if tail[at + 5] & _LAST else "without an end"


def _is_head(data: bytes, at: int) -> bool:
    """Whether a page can begin here: its version is 0, and it has not more flags than there are."""
    return len(data) - at > _SEGMENTS_AT + 1 and data[at + 4] == 0 and data[at + 5] < 8


def settle_serial(path: Path, serial: int) -> None:
    """Give every page of a file with one stream this serial number: the same input then makes the same bytes."""
    data = bytearray(path.read_bytes())
    pages = np.frombuffer(data, np.uint8)
    at = 0
    while data[at : at + 4] == b"OggS":
        segments = data[at + _SEGMENTS_AT]
        body = at + _SEGMENTS_AT + 1 + segments
        end = body + sum(data[at + _SEGMENTS_AT + 1 : body])
        struct.pack_into("<I", data, at + _SERIAL_AT, serial & 0xFFFFFFFF)
        struct.pack_into("<I", data, at + _CHECKSUM_AT, 0)
        checksum = checksum_of(pages[at:end].astype(np.int64), _TABLE)
        struct.pack_into("<I", data, at + _CHECKSUM_AT, checksum)
        at = end
    with path.open("r+b") as file:
        file.write(data)
