"""The frames of an MP3 (ISO/IEC 11172-3 and 13818-3, Layer III) and the gain that each of their granules states.

A granule's `global_gain` scales all it decodes to by 2^(1/4) a step: so a gain in whole steps is a change of that
field alone, and of the checksum that some frames have over it.
"""

import math
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ..errors import DamagedError, NotAudioError, UnsupportedError
from ..kernels import Integers, kernel

Bytes = NDArray[np.uint8]

STEP_DB = 20.0 * math.log10(2.0) / 4.0
"""Of `global_gain`: 1.505 dB."""

# kbit/s by index: MPEG-1, then MPEG-2 and 2.5; 0: free or not allowed. Rates by version bits (2.5, none, 2, 1).
_KBPS = np.array(
    [
        [0, 32, 40, 48, 56, 64, 80, 96, 112, 128, 160, 192, 224, 256, 320, 0],
        [0, 8, 16, 24, 32, 40, 48, 56, 64, 80, 96, 112, 128, 144, 160, 0],
    ],
    np.int64,
)
_RATES_HZ = np.array(
    [[11_025, 12_000, 8_000, 0], [0, 0, 0, 0], [22_050, 24_000, 16_000, 0], [44_100, 48_000, 32_000, 0]], np.int64
)

_FRAMES, _LOWEST, _HIGHEST, _AT, _CHECKED, _FIRST = range(6)
"""What a walk finds, by place."""

_FINE, _FREE, _WRONG_CHECKSUM = 0, 1, 2


@dataclass(frozen=True)
class Walked:
    """lowest, highest: gain fields of the granules that hold anything; None where none does."""

    frames: int
    lowest: int | None
    highest: int | None
    checked: int


def walk(data: Bytes, first: int) -> Walked:
    """Look at every frame from a byte on.

    Raises NotAudioError, UnsupportedError, and DamagedError where a checksum is not that of its frame.
    """
    found = np.array([0, 256, -1, 0, 0, 0], np.int64)
    ended = _walk(data, first, 0, _KBPS, _RATES_HZ, found)
    if ended == _FREE:
        raise UnsupportedError("Its bit rate is free: where its frames end is not written in them.")
    if ended == _WRONG_CHECKSUM:
        raise DamagedError(f"The checksum of frame {found[_FRAMES] + 1} is wrong, {found[_AT]} bytes into the file.")
    if not found[_FRAMES]:
        raise NotAudioError("This is no MP3: there is not one frame of Layer III in it.")
    has_any = bool(found[_HIGHEST] >= 0)
    return Walked(
        int(found[_FRAMES]),
        int(found[_LOWEST]) if has_any else None,
        int(found[_HIGHEST]) if has_any else None,
        int(found[_CHECKED]),
    )


def shift(data: Bytes, first: int, steps: int) -> None:
    """Add steps to every gain field that means anything, in place; `walk` said that all stay within 0 to 255."""
    _walk(data, first, steps, _KBPS, _RATES_HZ, np.array([0, 256, -1, 0, 0, 0], np.int64))


@kernel
def _walk(data: Any, first: int, steps: int, kbps: Integers, rates_hz: Integers, found: Integers) -> int:
    """steps: to be added; 0 looks only. The first frame may be a tag of the encoder's and then stays."""
    at, size, in_step, like = first, len(data), False, -1
    while at + 4 <= size:
        length = _length_at(data, at, like, kbps, rates_hz)
        if length < 0 and in_step:
            found[3] = at
            return 1
        is_frame = length > 0
        if is_frame and not in_step and at + length + 4 <= size:
            is_frame = _length_at(data, at + length, int(data[at + 1]) & 0x1E, kbps, rates_hz) > 0
        if not is_frame:
            if length < 0 and found[0] == 0 and _free_follows(data, at, kbps, rates_hz):
                return 1
            at += 1
            in_step = False
            continue
        like = int(data[at + 1]) & 0x1E
        if found[0] > 0 or found[5] > 0 or not _is_tag(data, at, length):
            ended = _frame(data, at, length, steps, found)
            if ended:
                found[3] = at
                return int(ended)
            found[0] += 1
        else:
            found[5] = 1
        in_step = True
        at += length
    return 0


@kernel
def _length_at(data: Any, at: int, like: int, kbps: Integers, rates_hz: Integers) -> int:
    """Bytes of the frame that begins here; 0 where none does, -1 where its bit rate is free. like: version and layer
    that it must have, or -1."""
    if at + 4 > len(data) or data[at] != 0xFF or (int(data[at + 1]) & 0xE6) != 0xE2:
        return 0
    if like >= 0 and (int(data[at + 1]) & 0x1E) != like:
        return 0
    version, rate = (int(data[at + 1]) >> 3) & 3, rates_hz[(int(data[at + 1]) >> 3) & 3, (int(data[at + 2]) >> 2) & 3]
    index = int(data[at + 2]) >> 4
    if rate == 0 or index == 15 or (int(data[at + 3]) & 3) == 2:
        return 0
    if index == 0:
        return -1
    is_first = version == 3
    rate_kbps = kbps[0 if is_first else 1, index]
    return int((144_000 if is_first else 72_000) * rate_kbps // rate + ((int(data[at + 2]) >> 1) & 1))


@kernel
def _free_follows(data: Any, at: int, kbps: Integers, rates_hz: Integers) -> bool:
    """Whether another head of a free bit rate that is alike comes within the longest frame there can be."""
    for other in range(at + 48, min(at + 4_096, len(data) - 4)):
        same = data[other] == 0xFF and data[other + 1] == data[at + 1]
        if same and (int(data[other + 2]) & 0xFC) == (int(data[at + 2]) & 0xFC):
            return True
    return False


@kernel
def _side_bytes(data: Any, at: int) -> int:
    """Bytes of side information behind the head and the checksum."""
    is_first, is_mono = (int(data[at + 1]) >> 3) & 3 == 3, int(data[at + 3]) >> 6 == 3
    return (17 if is_mono else 32) if is_first else (9 if is_mono else 17)


@kernel
def _is_tag(data: Any, at: int, length: int) -> bool:
    """Whether a frame is what encoders put before the music: Xing, Info, VBRI."""
    side = at + 4 + _side_bytes(data, at)
    for start in (side, side + 2, at + 36):
        if start + 4 <= at + length and start + 4 <= len(data):
            a, b, c, d = int(data[start]), int(data[start + 1]), int(data[start + 2]), int(data[start + 3])
            if a == 88 and b == 105 and c == 110 and d == 103:
                return True
            if a == 73 and b == 110 and c == 102 and d == 111:
                return True
            if a == 86 and b == 66 and c == 82 and d == 73:
                return True
    return False


@kernel
def _frame(data: Any, at: int, length: int, steps: int, found: Integers) -> int:
    """Look at the granules of a frame, and change them; a last frame that is cut before its side information ends is
    left alone."""
    has_sum, side = (int(data[at + 1]) & 1) == 0, at + 4
    if has_sum:
        side += 2
    count = _side_bytes(data, at)
    if side + count > len(data) or side + count > at + length:
        return 0
    if has_sum:
        if _checksum(data, at, side, count) != (int(data[at + 4]) << 8 | int(data[at + 5])):
            return 2
        found[4] += 1
    is_first, is_mono = (int(data[at + 1]) >> 3) & 3 == 3, int(data[at + 3]) >> 6 == 3
    bit = (18 if is_mono else 20) if is_first else (9 if is_mono else 10)
    for _ in range((1 if is_mono else 2) * (2 if is_first else 1)):
        if _bits(data, 8 * side + bit, 12):
            gain = _bits(data, 8 * side + bit + 21, 8)
            found[1] = min(found[1], gain)
            found[2] = max(found[2], gain)
            if steps:
                _put_eight(data, 8 * side + bit + 21, gain + steps)
        bit += 59 if is_first else 63
    if has_sum and steps:
        made = _checksum(data, at, side, count)
        data[at + 4], data[at + 5] = made >> 8, made & 255
    return 0


@kernel
def _bits(data: Any, first: int, count: int) -> int:
    value = 0
    for bit in range(first, first + count):
        value = value << 1 | (int(data[bit >> 3]) >> (7 - (bit & 7))) & 1
    return value


@kernel
def _put_eight(data: Any, first: int, value: int) -> None:
    at, right = first >> 3, first & 7
    data[at] = (int(data[at]) & ~(255 >> right) & 255) | (value >> right)
    if right:
        data[at + 1] = (int(data[at + 1]) & (255 >> right)) | ((value << (8 - right)) & 255)


@kernel
def _checksum(data: Any, at: int, side: int, count: int) -> int:
    """CRC-16 over the second half of the head and the side information (ISO/IEC 11172-3, 2.4.3.1)."""
    crc = 0xFFFF
    for number in range(count + 2):
        value = int(data[at + 2 + number]) if number < 2 else int(data[side + number - 2])
        for bit in range(7, -1, -1):
            top = (crc >> 15) & 1
            crc = (crc << 1) & 0xFFFF
            if top != (value >> bit) & 1:
                crc ^= 0x8005
    return crc
