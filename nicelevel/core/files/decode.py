"""A lossless copy of what can only be read from its start, so that it can be played and looked at from anywhere."""

from pathlib import Path

from ..values import OutputFormat
from .read import take_in
from .write import open_sink

BLOCK_FRAMES = 1 << 16


def needs_copy(path: Path) -> bool:
    """Whether a copy is wanted to play a file: it has only a start, or opening it follows it to its end."""
    with take_in(path) as audio:
        return not (audio.can_seek and audio.opens_at_once)


def decode(path: Path, target: Path) -> None:
    """Write all samples into a WAVE file of 32-bit floating point, which holds what a lossy decoder gives."""
    with take_in(path) as audio:
        source = audio.source
        output = OutputFormat("wav", "float_32", source.sample_rate_hz, source.layout, "none")
        sink = open_sink(target, output, source.frames)
        try:
            for block in audio.blocks(BLOCK_FRAMES):
                sink.write(block.astype("float32"))
        finally:
            sink.close()
