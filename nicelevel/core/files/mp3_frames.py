"""How long an MP3 is that does not say so itself: its frames counted by their headers (ISO/IEC 11172-3, 2.4.1.3).

Only an encoder's own frame (Xing, Info, VBRI) states a length. Without one decoders guess it from the size of the
file and its first frame: wrongly where a tag takes part of the file, or the bit rate varies.
"""

import mmap
from pathlib import Path

_KBPS = {
    True: (0, 32, 40, 48, 56, 64, 80, 96, 112, 128, 160, 192, 224, 256, 320, 0),
    False: (0, 8, 16, 24, 32, 40, 48, 56, 64, 80, 96, 112, 128, 144, 160, 0),
}
_RATES_HZ = {3: (44_100, 48_000, 32_000), 2: (22_050, 24_000, 16_000), 0: (11_025, 12_000, 8_000)}
_STATING = (b"Xing", b"Info", b"VBRI")
_TAG_BYTES = 10
_FRAME_HAS, _HALF_HAS = 1_152, 576
"""Samples of a frame of MPEG-1, and of the two that came after it."""

_MOST_JUNK_BYTES = 1 << 16


def counted_frames(path: Path) -> int | None:
    """Samples of each channel, told by counting; None where the file states its length, or cannot be followed.

    What is not followed is left to the decoder: free bit rates, junk that goes on for long.
    """
    with path.open("rb") as file, mmap.mmap(file.fileno(), 0, access=mmap.ACCESS_READ) as data:
        return _counted(data)


def _counted(data: mmap.mmap) -> int | None:
    at = _next_frame(data, _behind_tags(data))
    if at is None:
        return None
    size_bytes, _ = _frame_at(data, at) or (0, 0)
    if any(word in data[at : at + size_bytes] for word in _STATING):
        return None
    samples = 0
    while at is not None and (frame := _frame_at(data, at)):
        size_bytes, held = frame
        if at + size_bytes > len(data):
            break
        samples += held
        at = _next_frame(data, at + size_bytes)
    return samples or None


def _behind_tags(data: mmap.mmap) -> int:
    """Where what is no ID3v2 tag begins (id3.org, id3v2.4.0-structure, 3.1)."""
    at = 0
    while data[at : at + 3] == b"ID3" and len(data) >= at + _TAG_BYTES:
        size = 0
        for byte in data[at + 6 : at + _TAG_BYTES]:
            size = size << 7 | byte & 0x7F
        at += _TAG_BYTES + size + (_TAG_BYTES if data[at + 5] & 0x10 else 0)
    return at


def _next_frame(data: mmap.mmap, at: int) -> int | None:
    """The next place where a frame begins and another follows, or nothing more; None where there is none near."""
    if _frame_at(data, at):
        return at
    end = min(len(data), at + _MOST_JUNK_BYTES)
    while (at := data.find(b"\xff", at, end)) >= 0:
        frame = _frame_at(data, at)
        if frame and (at + frame[0] >= len(data) or _frame_at(data, at + frame[0])):
            return at
        at += 1
    return None


def _frame_at(data: mmap.mmap, at: int) -> tuple[int, int] | None:
    """Bytes and samples of the frame of Layer III that begins at a place; None where none does."""
    if at + 4 > len(data) or data[at] != 0xFF or data[at + 1] & 0xE6 != 0xE2:
        return None
    version, third = data[at + 1] >> 3 & 3, data[at + 2]
    rates_hz = _RATES_HZ.get(version)
    if rates_hz is None or third >> 2 & 3 == 3:
        return None
    is_first = version == 3
    kbps, rate_hz = _KBPS[is_first][third >> 4], rates_hz[third >> 2 & 3]
    if not kbps:
        return None
    held = _FRAME_HAS if is_first else _HALF_HAS
    return held * 125 * kbps // rate_hz + (third >> 1 & 1), held
