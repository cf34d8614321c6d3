"""Loudness range (EBU Tech 3342, 2023)."""

import numpy as np

from ..units import energy_from_lufs, lufs_from_energy
from .gating import ABSOLUTE_GATE_LUFS, Energies

RELATIVE_GATE_LU = -20.0
LOW_PERCENTILE, HIGH_PERCENTILE = 10, 95


def loudness_range_lu(short_term: Energies) -> float | None:
    """Spread of the short-term loudness in LU, between its 10th and 95th percentile after gating.

    `short_term`: energies of 3 s windows every 100 ms. None where there is no window or all is gated.
    """
    return range_of_sorted_lu(np.sort(short_term))


def range_of_sorted_lu(short_term: Energies) -> float | None:
    """The same of energies in ascending order."""
    ends = _ends_of_sorted_lufs(short_term)
    return ends[1] - ends[0] if ends else None


def range_ends_lufs(short_term: Energies) -> tuple[float, float] | None:
    """The two percentiles that the range lies between, in LUFS."""
    return _ends_of_sorted_lufs(np.sort(short_term))


def _ends_of_sorted_lufs(short_term: Energies) -> tuple[float, float] | None:
    audible = short_term[np.searchsorted(short_term, energy_from_lufs(ABSOLUTE_GATE_LUFS)) :]
    if len(audible) == 0:
        return None
    gate = energy_from_lufs(lufs_from_energy(float(audible.mean())) + RELATIVE_GATE_LU)
    ordered = audible[np.searchsorted(audible, gate) :]
    low, high = (_percentile(ordered, percent) for percent in (LOW_PERCENTILE, HIGH_PERCENTILE))
    return lufs_from_energy(low), lufs_from_energy(high)


def _percentile(ordered: Energies, percent: int) -> float:
    """Nearest rank, as in the standard's own listing."""
    return float(ordered[int((len(ordered) - 1) * percent / 100 + 0.5)])
