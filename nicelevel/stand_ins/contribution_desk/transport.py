"""The way through the desk: programmes wrapped picture by picture, unwrapped again, every sample compared.

The desk's own packets: a head with the number of the picture, how many samples of how many channels follow, and a
checksum of them.
"""

import struct
import zlib
from collections.abc import Iterator
from fractions import Fraction
from pathlib import Path
from typing import BinaryIO

import numpy as np
from numpy.typing import NDArray

from nicelevel.core.errors import DamagedError
from nicelevel.core.files import take_in

_HEAD = struct.Struct("<4sIIHI")
MAGIC = b"PICT"
BLOCK_PICTURES = 250


def wrap(path: Path, to: Path, pictures_per_second: Fraction) -> int:
    """Write the samples of a file picture by picture; how many pictures that are. Raises as the file's blocks."""
    with take_in(path) as audio, to.open("wb") as file:
        rate_hz, frames, count = audio.shape.rate_hz, audio.shape.frames, 0
        block = int(BLOCK_PICTURES * rate_hz / pictures_per_second)
        held = np.empty((0, audio.shape.channels))
        first = 0
        for samples in audio.blocks(block):
            held = np.concatenate([held, samples])
            while True:
                last = min(frames, round((count + 1) * rate_hz / pictures_per_second))
                if last - first > len(held) or last == first:
                    break
                _put(file, count, held[: last - first])
                held, first, count = held[last - first :], last, count + 1
    return count


def _put(file: BinaryIO, number: int, samples: NDArray[np.float64]) -> None:
    data = np.ascontiguousarray(samples, "<f8").tobytes()
    file.write(_HEAD.pack(MAGIC, number, len(samples), samples.shape[1], zlib.crc32(data)) + data)


def unwrap(wrapped: Path) -> Iterator[NDArray[np.float64]]:
    """The samples of each picture in turn. Raises DamagedError where one is missing or not as it was."""
    with wrapped.open("rb") as file:
        number = 0
        while head := file.read(_HEAD.size):
            magic, at, frames, channels, checksum = _HEAD.unpack(head)
            data = file.read(8 * frames * channels)
            if magic != MAGIC or at != number or zlib.crc32(data) != checksum:
                raise DamagedError(f"Picture {number} did not come through as it went in.")
            yield np.frombuffer(data, "<f8").reshape(frames, channels)
            number += 1


def samples_that_differ(path: Path, wrapped: Path) -> tuple[int, int]:
    """How many samples were compared, and how many of them differ; what is missing differs."""
    compared = differing = 0
    with take_in(path) as audio:
        pictures, waiting = unwrap(wrapped), np.empty((0, audio.shape.channels))
        for block in audio.blocks(1 << 16):
            while len(waiting) < len(block):
                picture = next(pictures, None)
                if picture is None:
                    break
                waiting = np.concatenate([waiting, picture])
            found = waiting[: len(block)]
            differing += int((found != block[: len(found)]).sum()) + (len(block) - len(found)) * block.shape[1]
            compared += block.size
            waiting = waiting[len(block) :]
        differing += waiting.size + sum(picture.size for picture in pictures)
    return compared, differing
