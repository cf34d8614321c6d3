"""What lossy codecs can hold: sample rates, channels, bit rates, frame lengths. One place for each of these facts."""

MP3_LOW_KBPS = (8, 16, 24, 32, 40, 48, 56, 64, 80, 96, 112, 128, 144, 160)
MP3_HIGH_KBPS = (32, 40, 48, 56, 64, 80, 96, 112, 128, 160, 192, 224, 256, 320)
AC3_KBPS = (32, 40, 48, 56, 64, 80, 96, 112, 128, 160, 192, 224, 256, 320, 384, 448, 512, 576, 640)
"""Constant bit rates that exist: ISO/IEC 13818-3 and 11172-3, layer III; ATSC A/52."""

MP3_KBPS = tuple(sorted({*MP3_LOW_KBPS, *MP3_HIGH_KBPS}))
MP3_HIGH_FROM_HZ = 32_000

_COMMON_KBPS = (32, 48, 64, 80, 96, 112, 128, 160, 192, 224, 256, 320)
_OPUS_KBPS = (16, 24, 32, 48, 64, 80, 96, 112, 128, 160, 192, 224, 256, 320, 384, 448, 510)

RATES_HZ = {
    "mp3": (8_000, 11_025, 12_000, 16_000, 22_050, 24_000, 32_000, 44_100, 48_000),
    "aac": (8_000, 11_025, 12_000, 16_000, 22_050, 24_000, 32_000, 44_100, 48_000, 64_000, 88_200, 96_000),
    "opus": (8_000, 12_000, 16_000, 24_000, 48_000),
    "ac3": (32_000, 44_100, 48_000),
}
"""AAC: ISO/IEC 14496-3, table 1.18; Opus: RFC 6716, 2.1.3; AC-3: ATSC A/52, 5.4.1.3."""

MOST_CHANNELS = {"mp3": 2, "ac3": 6, "flac": 8, "aac": 8, "opus": 8, "vorbis": 8}

LOUDEST_DIALNORM_DB, QUIETEST_DIALNORM_DB = -1, -31
"""What AC-3 can state of its dialogue: whole numbers of five bits (ATSC A/52:2018, 5.4.2.8)."""

DEFAULT_KBPS = {"mp3": 192.0, "aac": 192.0, "vorbis": 192.0, "opus": 128.0, "ac3": 448.0}
"""Where a spec names no bit rate and no size. Common practice."""

AC3_FRAMES = 1536
"""AC-3 comes in frames of so many, and has no place for a length: a file ends on a whole one (ATSC A/52, 5.1)."""


CONSTANT = frozenset({"mp3", "opus", "ac3"})
"""Those that keep to a bit rate frame by frame where that is asked for."""

MP3_HIGH_FRAMES, MP3_LOW_FRAMES = 1152, 576
"""Samples of one frame (ISO/IEC 11172-3 and 13818-3, layer III)."""

_MP3_DELAY_FRAMES = 1105
"""What LAME puts before and after, at least (its encoder's 576 and a decoder's 529)."""

_AAC_FRAMES, _AAC_PACKET_BYTES, _AAC_FILE_BYTES = 1024, 4, 1000
_OPUS_RATE_HZ, _OPUS_FRAMES, _OPUS_DELAY_FRAMES = 48_000, 960, 312
_OPUS_HEAD_BYTES, _OGG_PAGE_BYTES, _OGG_PACKETS_PER_PAGE, _OGG_LACE = 144, 27, 50, 255
"""Beside the packets: tables of MP4, heads and pages of Ogg (RFC 3533, 6; RFC 7845), as FFmpeg writes them."""


def coded_bytes(encoding: str, sample_rate_hz: int, kbps: float, frames: int) -> int:
    """Bytes of a coded file: to one frame of CONSTANT codecs at constant bit rates, else what the bit rate says."""
    plain, per_s = round(frames / sample_rate_hz * kbps * 125), kbps * 125
    if encoding == "mp3":
        length = MP3_HIGH_FRAMES if sample_rate_hz >= MP3_HIGH_FROM_HZ else MP3_LOW_FRAMES
        # One frame more for the tag that tells the exact length.
        return int((1 + -(-(frames + _MP3_DELAY_FRAMES) // length)) * length / sample_rate_hz * per_s)
    if encoding == "ac3":
        return round(-(-frames // AC3_FRAMES) * AC3_FRAMES / sample_rate_hz * per_s)
    if encoding == "aac":
        return plain + (-(-frames // _AAC_FRAMES) + 1) * _AAC_PACKET_BYTES + _AAC_FILE_BYTES
    if encoding == "opus":
        packets = -(-(frames * _OPUS_RATE_HZ // sample_rate_hz + _OPUS_DELAY_FRAMES) // _OPUS_FRAMES)
        packet_bytes = int(per_s * _OPUS_FRAMES / _OPUS_RATE_HZ)
        pages_bytes = -(-packets // _OGG_PACKETS_PER_PAGE) * _OGG_PAGE_BYTES
        return _OPUS_HEAD_BYTES + packets * (packet_bytes + packet_bytes // _OGG_LACE + 1) + pages_bytes
    return plain


def constant_kbps(encoding: str, sample_rate_hz: int) -> tuple[int, ...]:
    """Bit rates of a codec at a sample rate, in ascending order: those that exist, or the usual ones of many."""
    if encoding == "mp3":
        return MP3_HIGH_KBPS if sample_rate_hz >= MP3_HIGH_FROM_HZ else MP3_LOW_KBPS
    return {"ac3": AC3_KBPS, "opus": _OPUS_KBPS}.get(encoding, _COMMON_KBPS)


def coded_rate_hz(encoding: str, sample_rate_hz: int) -> int:
    """The rate at which a codec takes a signal: its own where it can, else the next lower one, else the lowest."""
    known = RATES_HZ.get(encoding)
    if known is None or sample_rate_hz in known:
        return sample_rate_hz
    return max((rate_hz for rate_hz in known if rate_hz <= sample_rate_hz), default=known[0])


def highest_kbps(encoding: str, sample_rate_hz: int, duration_s: float, most_bytes: int) -> float | None:
    """The highest bit rate whose file is no larger than so many bytes; None where even the lowest is."""
    frames = round(duration_s * sample_rate_hz)
    known = constant_kbps(encoding, sample_rate_hz)
    fitting = [kbps for kbps in known if coded_bytes(encoding, sample_rate_hz, kbps, frames) <= most_bytes]
    return float(fitting[-1]) if fitting else None
