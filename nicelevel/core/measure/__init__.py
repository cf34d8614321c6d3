"""From a file to its reading."""

from collections.abc import Callable
from contextlib import AbstractContextManager, nullcontext
from pathlib import Path

from ..files import take_in
from ..values import Reading, Source
from .envelope import EnvelopeWriter, hops_of
from .meter import Meter

Progress = Callable[[float], None]
"""Called with the share done, 0 to 1; it may raise StoppedError to end the work."""

BLOCK_FRAMES = 1 << 17
METER_VERSION = 3
"""Raised whenever a reading of the same file would come out differently: kept readings are then made anew."""


def measure(path: str | Path, progress: Progress | None = None, envelope_path: Path | None = None) -> Reading:
    """Measure every figure of a file in one pass, and write its envelope where a path for it is given.

    Raises the NiceLevelError named for the cause where the file cannot be used.
    """
    with take_in(path) as audio, _envelope(audio.source, envelope_path) as envelope:
        meter = Meter(audio.source, audio.coding, envelope)
        done = 0
        while done < audio.source.frames:
            buffer, first, last = meter.room()
            frames = audio.read_into(buffer, first, min(last, first + BLOCK_FRAMES), done)
            meter.filled(frames)
            done += frames
            if progress:
                progress(done / audio.source.frames)
        return meter.reading()


def _envelope(source: Source, path: Path | None) -> AbstractContextManager[EnvelopeWriter | None]:
    if path is None:
        return nullcontext()
    return EnvelopeWriter(path, hops_of(source.frames, source.sample_rate_hz), source.channels)


__all__ = ["METER_VERSION", "Meter", "Progress", "measure"]
