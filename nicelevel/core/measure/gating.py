"""Loudness from hop energies: momentary and short-term windows and the two gates.

Gating works on energies; dB only at the very end. Sources: ITU-R BS.1770-5, Annex 1; EBU Tech 3341 (2023).
"""

import math

import numpy as np
from numpy.typing import NDArray

from ..kernels import kernel, vectorised
from ..units import LUFS_OFFSET_DB, energy_from_db, energy_from_lufs, lufs_from_energy

Energies = NDArray[np.float64]

HOPS_PER_SECOND = 100
HOP_S = 1.0 / HOPS_PER_SECOND
MOMENTARY_HOPS = 40
SHORT_TERM_HOPS = 300
STEP_HOPS = 10
"""Gating blocks overlap by 75 %: 400 ms every 100 ms. The same step serves the short-term series."""

ABSOLUTE_GATE_LUFS = -70.0
RELATIVE_GATE_LU = -10.0


def window_energies(energies: Energies, window_hops: int) -> Energies:
    """Mean energy of every full window, one for each hop at which a window ends. Empty where too short."""
    if len(energies) < window_hops:
        return np.empty(0)
    means = np.empty(len(energies) - window_hops + 1)
    _mean_windows(energies, window_hops, means)
    return means


@kernel
def _mean_windows(energies: Energies, window_hops: int, means: Energies) -> None:
    """Running sum, begun anew at every multiple of the window, so that rounding never piles up."""
    total = 0.0
    for end in range(len(means)):
        if end % window_hops == 0:
            total = 0.0
            for hop in range(end, end + window_hops):
                total += energies[hop]
        else:
            total += energies[end + window_hops - 1] - energies[end - 1]
        means[end] = max(total, 0.0) / window_hops


def gating_blocks(energies: Energies) -> Energies:
    """Energy of each 400 ms block at steps of 100 ms; an incomplete block at the end is not used."""
    return _stepped_windows(energies, MOMENTARY_HOPS)


def short_term_steps(energies: Energies) -> Energies:
    """Energy of each 3 s window at steps of 100 ms."""
    return _stepped_windows(energies, SHORT_TERM_HOPS)


def _stepped_windows(energies: Energies, window_hops: int) -> Energies:
    """Mean energy of every window of whole steps, one at each step."""
    if len(energies) < window_hops:
        return np.empty(0)
    steps = energies[: len(energies) // STEP_HOPS * STEP_HOPS].reshape(-1, STEP_HOPS) @ np.ones(STEP_HOPS)
    return _window_sums(steps, window_hops // STEP_HOPS) / window_hops


def _window_sums(values: Energies, width: int) -> Energies:
    """Sum of every so many neighbours, from sums of 1, 2, 4, …: no running sum whose rounding could pile up."""
    count, start, power = len(values) - width + 1, 0, 1
    total = np.zeros(count)
    while True:
        if width & power:
            total += values[start : start + count]
            start += power
        if start == width:
            break
        values = values[:-power] + values[power:]
        power *= 2
    return total


def integrated_lufs(blocks: Energies) -> float:
    """Integrated loudness of gating blocks in LUFS; minus infinity where no block passes the gates."""
    loud = _mean_over(blocks, energy_from_lufs(max(relative_gate_lufs(blocks), ABSOLUTE_GATE_LUFS)))
    return lufs_from_energy(loud) if loud > 0.0 else -math.inf


def relative_gate_lufs(blocks: Energies) -> float:
    """The relative gate: 10 LU under the loudness of what passes the absolute gate."""
    audible = _mean_over(blocks, energy_from_lufs(ABSOLUTE_GATE_LUFS))
    return lufs_from_energy(audible) + RELATIVE_GATE_LU if audible > 0.0 else -math.inf


@vectorised
def _mean_over(blocks: Energies, gate: float) -> float:
    """Mean of the blocks over a gate; 0 where there is none."""
    total, count = 0.0, 0
    for at in range(len(blocks)):
        total += blocks[at] if blocks[at] > gate else 0.0
        count += 1 if blocks[at] > gate else 0
    return total / max(1, count)


def loudest_lufs(energies: Energies, window_hops: int) -> float:
    """Largest loudness of any window, searched at steps of 10 ms; minus infinity where too short.

    A window lies within one step more than it is long: where those hold less than the loudest so far, none is looked
    at.
    """
    if len(energies) < window_hops:
        return -math.inf
    whole = len(energies) // STEP_HOPS * STEP_HOPS
    steps = np.append(energies[:whole].reshape(-1, STEP_HOPS) @ np.ones(STEP_HOPS), energies[whole:].sum())
    width = window_hops // STEP_HOPS
    bounds = _window_sums(np.append(steps, 0.0), width + 1)
    totals = _window_sums(steps[:-1], width)
    return lufs_from_energy(_loudest_window(energies, bounds, totals, window_hops) / window_hops)


@kernel
def _loudest_window(energies: Energies, bounds: Energies, totals: Energies, window_hops: int) -> float:
    """Largest sum of a window. totals: of those that begin with each step; bounds: what others there cannot pass."""
    loudest = 0.0
    for step in range(len(totals)):
        loudest = max(loudest, totals[step])
    for step in range(len(totals)):
        if bounds[step] <= loudest:
            continue
        total, first = totals[step], step * STEP_HOPS
        for hop in range(first, min(first + STEP_HOPS - 1, len(energies) - window_hops)):
            total += energies[hop + window_hops] - energies[hop]
            loudest = max(loudest, total)
    return float(loudest)


def scaled(energies: Energies, gain_db: float) -> Energies:
    """Energies after a plain gain."""
    return energies * energy_from_db(gain_db)


class SortedBlocks:
    """Gating blocks in ascending order with their sums: integrated loudness after any gain takes microseconds."""

    def __init__(self, blocks: Energies) -> None:
        self._blocks = np.sort(blocks)
        self._sums = np.append(np.cumsum(self._blocks[::-1])[::-1], 0.0)

    def integrated_lufs(self, gain_db: float = 0.0) -> float:
        """As the function of this name, after a plain gain."""
        gain = energy_from_db(gain_db)
        gate = energy_from_lufs(ABSOLUTE_GATE_LUFS) / gain
        audible = self._mean_over(gate)
        loud = self._mean_over(max(gate, audible * energy_from_db(RELATIVE_GATE_LU)))
        return lufs_from_energy(loud * gain) if loud > 0.0 else -math.inf

    def _mean_over(self, gate: float) -> float:
        """Mean of the blocks over a gate; 0 where there is none."""
        first = int(np.searchsorted(self._blocks, gate, side="right"))
        return float(self._sums[first]) / max(1, len(self._blocks) - first)

    def gain_to_reach(self, target_lufs: float) -> float:
        """Gain in dB that brings the programme to an integrated loudness.

        Solved, not subtracted: where it has passages near -70 LUFS, gain moves them across the absolute gate. Raises
        ValueError where nothing passes the gates.
        """
        gain_db = 0.0
        for _ in range(20):
            reached = self.integrated_lufs(gain_db)
            if math.isinf(reached):
                raise ValueError("no block passes the gates")
            if abs(target_lufs - reached) < 1e-9:
                break
            gain_db += target_lufs - reached
        return gain_db


def series_lufs(energies: Energies, window_hops: int) -> NDArray[np.float64]:
    """Loudness every 100 ms: value k belongs to the window that ends at (k + 1) · 0.1 s.

    NaN before the first full window and at or below -70 LUFS.
    """
    windows = window_energies(energies, window_hops)[::STEP_HOPS]
    series = np.full(len(energies) // STEP_HOPS, np.nan)
    audible = windows > energy_from_lufs(ABSOLUTE_GATE_LUFS)
    first = window_hops // STEP_HOPS - 1
    series[first : first + len(windows)][audible] = LUFS_OFFSET_DB + 10.0 * np.log10(windows[audible])
    return series
