"""The envelope of a source: peak and K-weighted energy of every channel in every millisecond.

From it loudness, range and peaks after any gain curve are computed without touching audio. Both are kept as level in
16 bits: 1/320 dB a step, from -160 dB upward; 0 is nothing at all. A peak is rounded up, so that it never seems lower
than it is.
"""

from dataclasses import dataclass
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from ..kernels import Floats
from .gating import HOPS_PER_SECOND

ENVELOPE_HOPS_PER_SECOND = 1000
HOPS_PER_ENERGY = ENVELOPE_HOPS_PER_SECOND // HOPS_PER_SECOND
"""Ten hops of the envelope are one of the loudness."""

STEPS_PER_DB = 320
LOWEST_DB = -160.0
_MOST = 2**16 - 1


@dataclass(frozen=True)
class Envelope:
    """`peaks`: largest magnitudes, hops × channels; `energies`: K-weighted mean squares alike. float64."""

    peaks: NDArray[np.float64]
    energies: NDArray[np.float64]


def encoded(peaks: Floats, energies: Floats) -> NDArray[np.uint16]:
    """Hops × channels × (peak, energy) as they are kept."""
    return np.stack((peak_codes(peaks), _codes(10.0, energies, np.rint)), axis=2)


def peak_codes(peaks: Floats) -> NDArray[np.uint16]:
    """Magnitudes as they are kept."""
    return _codes(20.0, peaks, np.ceil)


def peaks_of(codes: NDArray[np.uint16]) -> NDArray[np.float64]:
    """Magnitudes as they were kept."""
    return _values(20.0, codes)


def hops_of(frames: int, sample_rate_hz: int) -> int:
    """Hops of a programme, the incomplete one at its end counted."""
    return -(-frames * ENVELOPE_HOPS_PER_SECOND // sample_rate_hz)


def load_envelope(path: Path) -> Envelope:
    """Read an envelope back."""
    codes = np.load(path, mmap_mode="r")
    return Envelope(peaks_of(codes[:, :, 0]), _values(10.0, codes[:, :, 1]))


def loudness_blocks(envelope: Envelope, weights: tuple[float, ...], sample_rate_hz: int) -> NDArray[np.float64]:
    """Weighted mean square of every full 10 ms, as the pass over the audio gives it: see `Curves.energies`."""
    hops = len(envelope.energies) // HOPS_PER_ENERGY * HOPS_PER_ENERGY
    edges = np.arange(hops + 1) * sample_rate_hz // ENVELOPE_HOPS_PER_SECOND
    sums = (envelope.energies[:hops] @ np.array(weights)) * np.diff(edges)
    blocks: NDArray[np.float64] = sums.reshape(-1, HOPS_PER_ENERGY).sum(axis=1) / np.diff(edges[::HOPS_PER_ENERGY])
    return blocks


def _codes(factor: float, values: Floats, rounding: np.ufunc) -> NDArray[np.uint16]:
    with np.errstate(divide="ignore"):
        steps = rounding((factor * np.log10(values) - LOWEST_DB) * STEPS_PER_DB)
    codes: NDArray[np.uint16] = np.clip(steps, 0, _MOST).astype(np.uint16)
    return codes


def _values(factor: float, codes: NDArray[np.uint16]) -> NDArray[np.float64]:
    values: NDArray[np.float64] = 10.0 ** ((codes / STEPS_PER_DB + LOWEST_DB) / factor)
    values[codes == 0] = 0.0
    return values
