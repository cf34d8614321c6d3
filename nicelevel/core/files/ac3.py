"""What an AC-3 stream says of its own level (ATSC A/52:2018, 5.3 and 5.4.2.8)."""

import math
from pathlib import Path

from ..codecs import LOUDEST_DIALNORM_DB, QUIETEST_DIALNORM_DB

SYNC = b"\x0b\x77"

_BSI_BYTES = 12
_HIGHEST_AC3_ID = 10
"""What has a higher `bsid` is another codec."""


def read_dialnorm_db(path: Path) -> int | None:
    """The dialogue level that the first frame of a raw stream states; None where it is no AC-3, or states none."""
    with path.open("rb") as file:
        head = file.read(_BSI_BYTES)
    if len(head) < _BSI_BYTES or head[:2] != SYNC:
        return None
    bits = _Bits(head, 40)  # after the sync word, the first checksum, rate and size
    if bits.take(5) > _HIGHEST_AC3_ID:
        return None
    bits.take(3)
    mode = bits.take(3)
    has_centre, has_surround, is_stereo = mode & 1 and mode != 1, mode & 4, mode == 2
    bits.take(2 * sum(map(bool, (has_centre, has_surround, is_stereo))) + 1)
    level = bits.take(5)
    return -level if level else None  # 0 is reserved


def dialnorm_of(loudness_lufs: float) -> int:
    """The whole number next to a loudness that a stream can state."""
    if not math.isfinite(loudness_lufs):
        return QUIETEST_DIALNORM_DB
    return max(QUIETEST_DIALNORM_DB, min(LOUDEST_DIALNORM_DB, round(loudness_lufs)))


class _Bits:
    """The bits of some bytes, from the highest down."""

    def __init__(self, data: bytes, at: int) -> None:
        self._number, self._left = int.from_bytes(data, "big"), 8 * len(data) - at

    def take(self, count: int) -> int:
        self._left -= count
        return self._number >> self._left & (1 << count) - 1
