"""dB and ratio, energy and LUFS, frames and seconds: the only logarithms of the core.

A level of nothing is minus infinity here; what is printed for it is decided in the report package.
"""

import math

import numpy as np
from numpy.typing import NDArray

LUFS_OFFSET_DB = -0.691
"""ITU-R BS.1770-5, Annex 1: makes a 997 Hz sine at 0 dBFS in one front channel read -3.01 LKFS."""


def db_from_ratio(ratio: float) -> float:
    """Level in dB of an amplitude ratio (0 or more)."""
    return 20.0 * math.log10(ratio) if ratio > 0.0 else -math.inf


def ratio_from_db(level_db: float) -> float:
    """Amplitude ratio of a level in dB."""
    return math.pow(10.0, level_db / 20.0)


def db_from_energy(mean_square: float) -> float:
    """Level in dB of a mean square (0 or more)."""
    return 10.0 * math.log10(mean_square) if mean_square > 0.0 else -math.inf


def energy_from_db(level_db: float) -> float:
    """Mean square of a level in dB."""
    return math.pow(10.0, level_db / 10.0)


_DB_OF_E = 10.0 / math.log(10.0)
"""Natural logarithms and powers are computed several at once, those of ten are not."""


def db_from_energies(mean_squares: NDArray[np.float64]) -> NDArray[np.float64]:
    """Levels in dB of many mean squares."""
    levels: NDArray[np.float64] = _DB_OF_E * np.log(mean_squares)
    return levels


def energies_from_db(levels_db: NDArray[np.float64]) -> NDArray[np.float64]:
    """Mean squares of many levels in dB."""
    energies: NDArray[np.float64] = np.exp(levels_db / _DB_OF_E)
    return energies


def ratios_from_db(levels_db: NDArray[np.float64]) -> NDArray[np.float64]:
    """Amplitude ratios of many levels in dB."""
    return energies_from_db(levels_db / 2.0)


def lufs_from_energy(weighted_mean_square: float) -> float:
    """Loudness in LUFS of a K-weighted mean square, summed over channels with their weights."""
    return LUFS_OFFSET_DB + db_from_energy(weighted_mean_square)


def energy_from_lufs(loudness_lufs: float) -> float:
    """K-weighted mean square of a loudness in LUFS."""
    return energy_from_db(loudness_lufs - LUFS_OFFSET_DB)


def rms_dbfs_from_mean_square(mean_square: float) -> float:
    """RMS level in dB relative to a full-scale square wave (mean square 1.0)."""
    return db_from_energy(mean_square)


def seconds_from_frames(frames: int, sample_rate_hz: int) -> float:
    """Length in seconds."""
    return frames / sample_rate_hz
