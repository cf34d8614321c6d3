"""Which containers are written, with which encodings, and how many bytes the samples take in them."""

from ..values import OutputFormat

# Encodings by container; "keep" falls back to the last one where the source's own is not among them.
WRITABLE = {
    "wav": ("pcm_16", "pcm_24", "pcm_32", "float_64", "float_32"),
    "aiff": ("pcm_16", "pcm_32", "pcm_24"),
    "flac": ("pcm_16", "pcm_24"),
}
RIFF_LIMIT_BYTES = 2**32 - 4096
"""Past this a WAVE file becomes RF64: its 32-bit sizes end at 4 GiB."""


def unwritable(output: OutputFormat) -> str | None:
    """Why this version cannot write an output, in a sentence; None where it can."""
    if output.container not in WRITABLE or output.is_lossy:
        name = output.encoding if output.is_lossy else output.container
        return f"{name.upper()} cannot be written yet; WAV, AIFF and FLAC can."
    if output.encoding not in WRITABLE[output.container]:
        return f"{output.encoding} cannot be written into {output.container.upper()} yet."
    if output.dither == "shaped" and output.bits is not None:
        return "Noise-shaped dither cannot be made yet; TPDF dither can."
    return None


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
