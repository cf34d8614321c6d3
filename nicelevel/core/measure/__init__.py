"""From a file to its reading."""

from collections.abc import Generator
from contextlib import AbstractContextManager, closing, nullcontext
from pathlib import Path

from ..ahead import ahead
from ..files import Audio, take_in
from ..progress import Progress
from ..values import Reading, Source
from .envelope import hops_of
from .hop_files import HopFiles
from .meter import Meter

BLOCK_FRAMES = 1 << 17
METER_VERSION = 10
"""Raised whenever a reading of the same file would come out differently: kept readings are then made anew."""


def measure(path: str | Path, progress: Progress | None = None, hops_folder: Path | None = None) -> Reading:
    """Measure every figure of a file in one pass; what is kept of every hop goes into a folder, where one is given.

    Raises the NiceLevelError named for the cause where the file cannot be used.
    """
    with take_in(path) as audio, hop_files(audio.source, hops_folder) as hops:
        meter = Meter(audio.source, audio.coding, hops)
        # Closed before the file is: what is decoded ahead has ended then.
        with closing((_fed_ahead if audio.is_coded else _filled)(audio, meter)) as steps:
            for done in steps:
                if progress:
                    progress(done / audio.source.frames)
        return meter.reading()


def _filled(audio: Audio, meter: Meter) -> Generator[int]:
    """Read a file into the meter's own room; yields how many frames are done."""
    done = 0
    while done < audio.source.frames:
        buffer, first, last = meter.room()
        frames = audio.read_into(buffer, first, min(last, first + BLOCK_FRAMES), done)
        meter.filled(frames)
        done += frames
        yield done


def _fed_ahead(audio: Audio, meter: Meter) -> Generator[int]:
    """The same, decoding what comes next while the last is measured."""
    done, frames = 0, max(1, 2 * BLOCK_FRAMES // max(2, audio.source.channels))
    with ahead(audio.code_blocks(frames)) as blocks:
        for codes in blocks:
            meter.feed(codes)
            done += len(codes)
            yield done


def hop_files(source: Source, folder: Path | None) -> AbstractContextManager[HopFiles | None]:
    """What is kept of every hop of a source, in a folder; nothing where none is given."""
    if folder is None:
        return nullcontext()
    return HopFiles(folder, hops_of(source.frames, source.sample_rate_hz), source.layout.weights)


__all__ = ["BLOCK_FRAMES", "METER_VERSION", "Meter", "hop_files", "measure"]
