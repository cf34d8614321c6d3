"""The format of a deliverable: every "keep" of a spec resolved for a source."""

from ..channels import layout_of_name
from ..errors import UnsupportedError
from ..files.containers import WRITABLE, unwritable
from ..specs.spec import Format, Spec
from ..values import LOSSY, OutputFormat, Source

_SHORT_WORDS = {"pcm_u8": "pcm_16", "pcm_8": "pcm_16"}
_OWN_ENCODING = {"flac": "flac", "m4a": "aac", "mp3": "mp3", "ogg": "vorbis", "ac3": "ac3"}
_FLAC_MOST_CHANNELS = 8

DEFAULT_KBPS = {"mp3": 192.0, "aac": 192.0, "vorbis": 192.0, "opus": 128.0, "ac3": 448.0}
"""Where a spec names no bit rate. Common practice."""


def resolve_format(source: Source, candidate: Format) -> OutputFormat:
    """The format in which a source is written. Raises UnsupportedError where none can be."""
    encoding = _encoding(source, candidate)
    rate_hz = source.sample_rate_hz if candidate.sample_rate == "keep" else candidate.sample_rate
    kept = candidate.channels in ("keep", source.layout.name)
    layout = source.layout if kept else layout_of_name(candidate.channels)
    if candidate.container == "flac" and len(layout.positions) > _FLAC_MOST_CHANNELS:
        raise UnsupportedError(f"FLAC holds at most 8 channels; the source has {source.channels}.")
    bitrate_kbps = (candidate.bitrate_kbps or DEFAULT_KBPS[encoding]) if encoding in LOSSY else None
    return OutputFormat(
        candidate.container,
        encoding,
        rate_hz,
        layout,
        candidate.dither,
        bitrate_kbps,
        candidate.bitrate_mode,
        _lossless(candidate),
    )


def _lossless(candidate: Format) -> str | None:
    if candidate.encoding == "alac":
        return "alac"
    return "flac" if candidate.container == "flac" or candidate.encoding == "flac" else None


def _encoding(source: Source, candidate: Format) -> str:
    """PCM words of FLAC and ALAC by their length; what is kept falls back to what the container holds."""
    if candidate.encoding not in ("keep", "flac", "alac"):
        return candidate.encoding
    if candidate.encoding == "keep" and candidate.container in ("mp3", "m4a", "ogg", "ac3"):
        return _OWN_ENCODING[candidate.container]
    own = f"pcm_{source.bits_declared}" if source.bits_declared else source.encoding
    own = _SHORT_WORDS.get(own, own)
    held = WRITABLE.get(candidate.container, WRITABLE["flac"] if candidate.encoding != "keep" else WRITABLE["wav"])
    return own if own in held else held[-1]


def word_length_falls(bits_used: int | None, output: OutputFormat, gain_db: float) -> bool:
    """Whether rounding is needed: the samples carry finer steps than the output's word length holds.

    Any gain makes words longer than every fixed-point format; without gain only a longer source does.
    """
    if output.bits is None:
        return False
    if gain_db != 0.0 or bits_used is None:
        return True
    return bits_used > output.bits


def not_yet(output: OutputFormat, spec: Spec) -> str | None:
    """What a spec asks for that can be planned but not written by this version, in a sentence; None where all can."""
    if spec.output.metadata != "none":
        return "Metadata cannot be carried over yet; a spec with none of it can be met."
    return unwritable(output)
