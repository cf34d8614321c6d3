"""The format of a deliverable: every "keep" resolved, and what this version can write."""

from ..errors import UnsupportedError
from ..files.containers import WRITABLE
from ..specs.spec import Format
from ..values import OutputFormat, Source

_SHORT_WORDS = {"pcm_u8": "pcm_16", "pcm_8": "pcm_16"}


def resolve_format(source: Source, candidate: Format) -> OutputFormat:
    """The format in which a source is written. Raises UnsupportedError where this version cannot."""
    if candidate.container not in WRITABLE:
        raise UnsupportedError(f"{candidate.container.upper()} cannot be written yet; WAV, AIFF and FLAC can.")
    if candidate.sample_rate not in ("keep", source.sample_rate_hz):
        raise UnsupportedError(
            f"{source.sample_rate_hz} Hz would have to become {candidate.sample_rate} Hz: "
            "rates cannot be changed yet."
        )
    if candidate.channels not in ("keep", source.layout.name):
        raise UnsupportedError(
            f"{source.layout.name} would have to become {candidate.channels}: channels cannot be folded down yet."
        )
    if candidate.dither == "shaped":
        raise UnsupportedError("Noise-shaped dither cannot be made yet; TPDF dither can.")
    encoding = _encoding(source, candidate)
    if candidate.container == "flac" and source.channels > 8:
        raise UnsupportedError(f"FLAC holds at most 8 channels; the source has {source.channels}.")
    return OutputFormat(candidate.container, encoding, source.sample_rate_hz, source.layout, candidate.dither)


def _encoding(source: Source, candidate: Format) -> str:
    if candidate.encoding not in ("keep", "flac"):
        if candidate.encoding not in WRITABLE[candidate.container]:
            raise UnsupportedError(f"{candidate.encoding} cannot be written into {candidate.container} yet.")
        return candidate.encoding
    own = f"pcm_{source.bits_declared}" if source.bits_declared else source.encoding
    own = _SHORT_WORDS.get(own, own)
    writable = WRITABLE[candidate.container]
    return own if own in writable else writable[-1]


def word_length_falls(bits_used: int | None, output: OutputFormat, gain_db: float) -> bool:
    """Whether rounding is needed: the samples carry finer steps than the output's word length holds.

    Any gain makes words longer than every fixed-point format; without gain only a longer source does.
    """
    if output.bits is None:
        return False
    if gain_db != 0.0 or bits_used is None:
        return True
    return bits_used > output.bits
