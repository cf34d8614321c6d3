"""What is kept of every hop beside the audio, written while it is measured: the envelope and the drawn waveform."""

from pathlib import Path
from types import TracebackType
from typing import Any, BinaryIO

import numpy as np
from numpy.typing import NDArray

from ..kernels import Floats
from .envelope import encoded
from .waveform import BINS_JOINED, LEVELS, bins_of, joined

ENVELOPE = "envelope.npy"
JOINED_AT_ONCE = BINS_JOINED * 4096


def waveform_name(level: int) -> str:
    return f"waveform-{level}.npy"


class HopFiles:
    """A folder of arrays in numpy's own file format, filled block by block; memory stays bounded.

    A context manager. A folder whose measuring failed is to be thrown away.
    """

    def __init__(self, folder: Path, hops: int, channels: int) -> None:
        self._folder, self._hops, self._channels = folder, hops, channels
        self._envelope = _begin(folder / ENVELOPE, "<u2", (hops, channels, 2))
        self._waveform = _begin(folder / waveform_name(0), "<i2", (hops, channels, 3))

    def add(self, lows: Floats, highs: Floats, energies: Floats) -> None:
        """Write the next hops × channels: extremes of the samples, ±1.0 at full scale; K-weighted mean squares."""
        self._envelope.write(encoded(np.maximum(-lows, highs), energies).tobytes())
        self._waveform.write(bins_of(lows, highs, energies).tobytes())

    def __enter__(self) -> "HopFiles":
        return self

    def __exit__(self, kind: type | None, error: BaseException | None, trace: TracebackType | None) -> None:
        self._envelope.close()
        self._waveform.close()
        if error is None:
            for level in range(1, LEVELS):
                self._join(level)

    def _join(self, level: int) -> None:
        below = np.load(self._folder / waveform_name(level - 1), mmap_mode="r")
        shape = (-(-len(below) // BINS_JOINED), self._channels, 3)
        with _begin(self._folder / waveform_name(level), "<i2", shape) as file:
            for first in range(0, len(below), JOINED_AT_ONCE):
                part: NDArray[Any] = np.asarray(below[first : first + JOINED_AT_ONCE])
                file.write(joined(part).tobytes())


def _begin(path: Path, kind: str, shape: tuple[int, ...]) -> BinaryIO:
    """A file of an array whose values are still to come."""
    file = path.open("wb")
    np.lib.format.write_array_header_1_0(file, {"descr": kind, "fortran_order": False, "shape": shape})
    return file
