"""What is kept of every hop beside the audio, written while it is measured.

The envelope (of every channel), what plans ask of it (of all channels together), and the drawn waveform.
"""

import mmap
import os
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from types import TracebackType
from typing import Any, BinaryIO

import numpy as np
from numpy.typing import NDArray

from ..kernels import Floats
from .envelope import encoded, peak_codes
from .low_band import low_codes
from .waveform import BINS_JOINED, LEVELS, bins_of, joined

ENVELOPE = "envelope.npy"
PEAKS, WEIGHTED, LOW_BAND = "peaks-of-all.npy", "weighted.npy", "low-band.npy"
HOP_NAMES = (ENVELOPE, PEAKS, WEIGHTED, LOW_BAND)
JOINED_AT_ONCE = BINS_JOINED * 4096


def waveform_name(level: int) -> str:
    return f"waveform-{level}.npy"


@dataclass(frozen=True)
class Hops:
    """What a plan asks of every millisecond; read from the disk where it is touched.

    sample_peaks, true_peaks: the largest of any channel, coded as in the envelope; weighted: float32, K-weighted mean
    square summed over channels with their weights; low_band: hops × channels, see there.
    """

    sample_peaks: NDArray[np.uint16]
    true_peaks: NDArray[np.uint16]
    weighted: NDArray[np.float32]
    low_band: NDArray[np.int16]


def open_hops(folder: Path) -> Hops:
    """The hops that were written into a folder."""
    sample_peaks, true_peaks = np.load(folder / PEAKS, mmap_mode="r")
    weighted, low_band = (np.load(folder / name, mmap_mode="r") for name in (WEIGHTED, LOW_BAND))
    return Hops(sample_peaks, true_peaks, weighted, low_band)


class HopFiles:
    """A folder of arrays in numpy's own file format, filled block by block; memory stays bounded.

    A context manager. A folder whose measuring failed is to be thrown away.
    """

    def __init__(self, folder: Path, hops: int, weights: Sequence[float]) -> None:
        self._folder, self._channels, self._weights = folder, len(weights), np.array(weights)
        self._envelope = _begin(folder / ENVELOPE, "<u2", (hops, self._channels, 2))
        self._waveform = _begin(folder / waveform_name(0), "<i2", (hops, self._channels, 3))
        self._weighted = _begin(folder / WEIGHTED, "<f4", (hops,))
        self._peaks = _mapped(folder / PEAKS, "<u2", (2, hops))
        self._low_band = _mapped(folder / LOW_BAND, "<i2", (hops, self._channels))
        self._done_hops = 0

    def add(self, lows: Floats, highs: Floats, energies: Floats) -> None:
        """Write the next hops × channels: extremes of the samples, ±1.0 at full scale; K-weighted mean squares."""
        codes = encoded(np.maximum(-lows, highs), energies)
        self._envelope.write(codes.tobytes())
        self._waveform.write(bins_of(lows, highs, energies).tobytes())
        self._weighted.write((energies @ self._weights).astype("<f4").tobytes())
        self._peaks[0, self._done_hops : self._done_hops + len(codes)] = codes[:, :, 0].max(axis=1)
        self._done_hops += len(codes)

    def add_later(self, first_hop: int, true_peaks: Floats, low_band: Floats) -> None:
        """Write what is known of some hops only when more has come: the largest true peak, and the low band.

        Peaks before the first hop or after the last belong to that.
        """
        found, codes = self._peaks[1], peak_codes(true_peaks)
        begin, end = (min(max(hop - first_hop, 0), len(codes)) for hop in (0, len(found)))
        inside = slice(first_hop + begin, first_hop + end)
        np.maximum(found[inside], codes[begin:end], out=found[inside])
        found[0] = max(found[0], codes[:begin].max(initial=0))
        found[-1] = max(found[-1], codes[end:].max(initial=0))
        self._low_band[inside] = low_codes(low_band[begin:end])
        for array in (self._peaks, self._low_band):
            _let_go(array)

    def __enter__(self) -> "HopFiles":
        return self

    def __exit__(self, kind: type | None, error: BaseException | None, trace: TracebackType | None) -> None:
        for file in (self._envelope, self._waveform, self._weighted):
            file.close()
        self._peaks.flush()
        self._low_band.flush()
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
                _let_go(below)


def _let_go(array: Any) -> None:
    """Take what was read or written of a mapped array out of the process's memory; the file keeps it."""
    array._mmap.madvise(mmap.MADV_DONTNEED)


def _mapped(path: Path, kind: str, shape: tuple[int, ...]) -> Any:
    """An array on the disk, all of its room taken at once: on a full disk, writing into a hole ends the process."""
    array = np.lib.format.open_memmap(path, "w+", kind, shape)
    with path.open("r+b") as file:
        os.posix_fallocate(file.fileno(), 0, path.stat().st_size)
    return array


def _begin(path: Path, kind: str, shape: tuple[int, ...]) -> BinaryIO:
    """A file of an array whose values are still to come."""
    file = path.open("wb")
    np.lib.format.write_array_header_1_0(file, {"descr": kind, "fortran_order": False, "shape": shape})
    return file
