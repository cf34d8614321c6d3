"""From a file to its reading."""

from collections.abc import Callable
from pathlib import Path

from ..files import take_in
from ..values import Reading
from .meter import Meter

Progress = Callable[[float], None]
"""Called with the share done, 0 to 1; it may raise StoppedError to end the work."""

BLOCK_FRAMES = 1 << 16
METER_VERSION = 2
"""Raised whenever a reading of the same file would come out differently: kept readings are then made anew."""


def measure(path: str | Path, progress: Progress | None = None) -> Reading:
    """Measure every figure of a file in one pass.

    Raises the NiceLevelError named for the cause where the file cannot be used.
    """
    with take_in(path) as audio:
        meter = Meter(audio.source)
        done = 0
        for block in audio.blocks(BLOCK_FRAMES):
            meter.feed(block)
            done += len(block)
            if progress:
                progress(done / audio.source.frames)
        return meter.reading()


__all__ = ["METER_VERSION", "Meter", "Progress", "measure"]
