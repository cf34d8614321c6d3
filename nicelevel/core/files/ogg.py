"""The pages of an Ogg file: its stream's serial number, which encoders draw by chance, is settled (RFC 3533, 6)."""

import struct
from pathlib import Path

import numpy as np

from ..kernels import Integers, kernel

_HEAD = struct.Struct("<4sBBqIII")
_SERIAL_AT, _CHECKSUM_AT, _SEGMENTS_AT = 14, 22, 26
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
