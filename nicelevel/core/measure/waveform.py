"""The waveform at several resolutions: what is drawn of a file, from its whole length down to a millisecond.

Of every bin and channel: lowest and highest sample and the level of the K-weighted signal, as 16-bit numbers.
"""

import numpy as np
from numpy.typing import NDArray

from ..kernels import Floats

FULL_SCALE = 16384
"""1.0 in 16 bits: floating-point files may pass it by 6 dB and are still drawn."""

BINS_JOINED = 16
"""A bin of each level is so many of the level below; those of level 0 are hops of 1 ms."""

LEVELS = 4


def bins_of(lows: Floats, highs: Floats, energies: Floats) -> NDArray[np.int16]:
    """Hops × channels × (low, high, level) of hops × channels, ±1.0 at full scale."""
    values = np.stack(
        (np.floor(lows * FULL_SCALE), np.ceil(highs * FULL_SCALE), np.sqrt(energies) * FULL_SCALE), axis=2
    )
    bins: NDArray[np.int16] = np.clip(values, -32768, 32767).astype(np.int16)
    return bins


def joined(bins: NDArray[np.int16]) -> NDArray[np.int16]:
    """The next level: extremes of extremes, the root of the mean of the squared levels."""
    starts = np.arange(0, len(bins), BINS_JOINED)
    counts = np.diff(np.append(starts, len(bins)))[:, None]
    squares = np.add.reduceat(bins[:, :, 2].astype(np.float64) ** 2, starts, axis=0)
    lows, highs = np.minimum.reduceat(bins[:, :, 0], starts), np.maximum.reduceat(bins[:, :, 1], starts)
    levels = np.sqrt(squares / counts).astype(np.int16)
    above: NDArray[np.int16] = np.stack((lows, highs, levels), axis=2)
    return above
