"""Formats as people say them: WAV, 24 bit, 48 kHz, stereo."""

from ..values import LOSSY, Source
from ..words import amount
from .spec import Format

_NAMES = {"aiff": "AIFF", "ogg": "Ogg", "vorbis": "Vorbis", "opus": "Opus", "ac3": "AC-3", "eac3": "E-AC-3"}


def container_word(container: str) -> str:
    return _NAMES.get(container, container.upper())


def encoding_word(encoding: str) -> str:
    """An encoding: 24 bit, 32-bit float, ALAC."""
    kind, _, bits = encoding.partition("_")
    if kind == "pcm" and bits.lstrip("us").isdigit():
        return f"{bits.lstrip('us')} bit"
    return f"{bits}-bit float" if kind == "float" else _NAMES.get(encoding, encoding.upper())


def rate_word(rate_hz: float) -> str:
    return f"{rate_hz / 1000:g} kHz"


def format_words(wanted: Format) -> str:
    """What a spec asks for; what it leaves as it is goes unsaid."""
    encoding = "" if wanted.encoding == "keep" else encoding_word(wanted.encoding)
    parts = (
        encoding,
        "" if wanted.sample_rate == "keep" else rate_word(wanted.sample_rate),
        f"{amount(wanted.bitrate_kbps)} kbit/s" if wanted.bitrate_kbps else "",
        "" if wanted.channels == "keep" else wanted.channels,
        f"stating {amount(wanted.dialnorm)} dB" if wanted.dialnorm is not None else "",
        "a file per channel" if wanted.files == "per_channel" else "",
    )
    return _listed(container_word(wanted.container), parts)


def source_words(source: Source) -> str:
    """What a file is."""
    packed = source.encoding in ("flac", "alac") and source.bits_declared
    parts = (
        encoding_word(source.encoding),
        f"{source.bits_declared} bit" if packed else "",
        rate_word(source.sample_rate_hz),
        source.layout.name if source.layout.name != "unknown" else f"{source.channels} channels",
    )
    return _listed(container_word(source.container), parts)


def _listed(container: str, parts: tuple[str, ...]) -> str:
    return ", ".join((container, *(part for part in parts if part and part != container)))


def format_name(wanted: Format) -> str:
    """A format in short: WAV 16 bit, MP3 192 kbit/s."""
    if wanted.bitrate_kbps is not None or wanted.encoding in LOSSY:
        container = f"{container_word(wanted.container)} " if wanted.container == "ogg" else ""
        rate = f" {amount(wanted.bitrate_kbps)} kbit/s" if wanted.bitrate_kbps else ""
        return container + encoding_word(wanted.encoding) + rate
    if wanted.encoding in ("keep", wanted.container):
        return container_word(wanted.container)
    word = wanted.encoding.partition("_")
    length = f"float {word[2]} bit" if word[0] == "float" else encoding_word(wanted.encoding)
    return f"{container_word(wanted.container)} {length}"
