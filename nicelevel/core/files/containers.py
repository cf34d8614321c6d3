"""Which containers are written, with which encodings, and how many bytes the samples take in them."""

from ..codecs import MOST_CHANNELS, RATES_HZ, constant_kbps
from ..values import OutputFormat
from ..words import amount

# Encodings by container; "keep" falls back to the last one where the source's own is not among them.
WRITABLE = {
    "wav": ("pcm_16", "pcm_24", "pcm_32", "float_64", "float_32"),
    "aiff": ("pcm_16", "pcm_24", "pcm_32", "float_64", "float_32"),
    "caf": ("pcm_16", "pcm_24", "pcm_32", "float_64", "float_32"),
    "flac": ("pcm_16", "pcm_24"),
}
RIFF_LIMIT_BYTES = 2**32 - 4096
"""Past this a WAVE file becomes RF64: its 32-bit sizes end at 4 GiB."""


PACKED = ("pcm_16", "pcm_24")
"""Words that FLAC and ALAC pack."""

MOST_CAF_ALAC_CHANNELS, MOST_ALAC_CHANNELS = 2, 6
"""Its layout of eight has further speakers in front, and none at the back."""

ENCODED_CHANNELS = (1, 2, 6, 8)
"""Layouts that an encoder has a name for."""


def unwritable(output: OutputFormat) -> str | None:
    """Why an output cannot be written, in a sentence; None where it can."""
    name, channels = output.coding_name, len(output.layout.positions)
    if output.lossless == "flac" and output.container == "ogg":
        return "FLAC in Ogg cannot be written; FLAC in its own container can."
    if output.lossless and output.encoding not in PACKED:
        return f"{name} packs 16 and 24 bits, not {output.encoding}."
    if not output.is_lossy and not output.lossless and output.encoding not in WRITABLE.get(output.container, ()):
        return f"{output.encoding} cannot be written into {output.container.upper()}."
    if channels > MOST_CHANNELS.get(output.coding, channels):
        return f"{name} holds at most {MOST_CHANNELS[output.coding]} channels; this has {channels}. Fold it down."
    if output.coding in (*MOST_CHANNELS, "alac") and output.coding != "flac" and channels not in ENCODED_CHANNELS:
        return f"{name} is written with 1, 2, 6 or 8 channels; this has {channels}."
    if output.coding == "alac" and output.container == "caf" and channels > MOST_CAF_ALAC_CHANNELS:
        return f"ALAC of {channels} channels in CAF is read in different orders by different readers; M4A holds it."
    if output.coding == "alac" and channels > MOST_ALAC_CHANNELS:
        return f"ALAC has no layout of {channels} channels as this one is; FLAC has. Or fold it down to 5.1."
    return _wrong_rate(output)


def _wrong_rate(output: OutputFormat) -> str | None:
    """Why a codec has not the sample rate or the bit rate that is asked for."""
    name, rates_hz = output.coding_name, RATES_HZ.get(output.coding)
    if rates_hz and output.sample_rate_hz not in rates_hz:
        return f"{name} has no sample rate of {output.sample_rate_hz} Hz."
    kbps = output.bitrate_kbps
    if output.coding not in ("mp3", "ac3") or kbps is None or output.bitrate_mode == "variable":
        return None
    known = constant_kbps(output.coding, output.sample_rate_hz)
    if kbps in known:
        return None
    nearest = min(known, key=lambda each: abs(each - kbps))
    return f"{name} has no constant bit rate of {amount(kbps)} kbit/s; the nearest is {nearest}."


def sample_bits(output: OutputFormat) -> int:
    """Bits that one sample takes, of fixed or floating point."""
    return output.bits or (64 if output.encoding == "float_64" else 32)


def block_bytes(output: OutputFormat) -> int:
    """Bytes of one frame uncompressed."""
    return len(output.layout.positions) * sample_bits(output) // 8


def data_bytes(output: OutputFormat, frames: int) -> int:
    """Bytes that all samples take uncompressed."""
    return frames * block_bytes(output)


def container_of(output: OutputFormat, samples_bytes: int) -> str:
    """The container as it is written: WAVE grows into RF64 by itself (EBU Tech 3306)."""
    return "rf64" if output.container == "wav" and samples_bytes > RIFF_LIMIT_BYTES else output.container
