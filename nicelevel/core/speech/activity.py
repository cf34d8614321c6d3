"""When somebody speaks, told from the level against the floor."""

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from ..runs import runs
from ..units import LUFS_OFFSET_DB, db_from_energies
from .listening import Floats

SMOOTH_HOPS = 5
LOCAL_HOPS = 1_000
"""Floor and top are those of the ten seconds about."""

FLOOR_PERCENTILE, TOP_PERCENTILE = 5.0, 95.0
LOWEST_ENERGY = 1e-10
"""Digital silence counts as this, -100 dB."""

OVER_FLOOR_SHARE, LEAST_OVER_DB, MOST_OVER_DB = 0.3, 6.0, 15.0
"""Somebody speaks where the level stands over the floor by so much of the way to the top, within these."""

SHORTEST_PAUSE_HOPS, SHORTEST_WORD_HOPS = 40, 6


def levels_of(energies: Floats) -> Floats:
    """The level about each 10 ms in LUFS, over 50 ms."""
    padded = np.pad(energies, SMOOTH_HOPS // 2, mode="edge")
    means = np.convolve(padded, np.full(SMOOTH_HOPS, 1.0 / SMOOTH_HOPS), "valid")[: len(energies)]
    levels: Floats = db_from_energies(np.maximum(means, LOWEST_ENERGY)) + LUFS_OFFSET_DB
    return levels


def is_active(levels: Floats) -> NDArray[np.bool_]:
    """Where a voice sounds, 10 ms by 10 ms."""
    floor, top = _local(levels, (FLOOR_PERCENTILE, TOP_PERCENTILE))
    over_db = np.clip(OVER_FLOOR_SHARE * (top - floor), LEAST_OVER_DB, MOST_OVER_DB)
    active: NDArray[np.bool_] = levels > floor + over_db
    return _without_short(active, SHORTEST_WORD_HOPS)


def is_speaking(active: NDArray[np.bool_]) -> NDArray[np.bool_]:
    """The same with the gaps between words: pauses of 0.4 s and more are none of it."""
    return ~_without_short(~active, SHORTEST_PAUSE_HOPS)


def _local(levels: Floats, percentiles: Sequence[float]) -> list[Floats]:
    """Percentiles of what lies about each place, from places a second apart; near the ends of what there is."""
    apart, half = LOCAL_HOPS // 10, LOCAL_HOPS // 2
    at = np.arange(0, len(levels) + apart, apart)
    is_inner = (at >= half) & (at + half <= len(levels))
    found = np.empty((len(percentiles), len(at)))
    if is_inner.any():
        windows = np.lib.stride_tricks.sliding_window_view(levels, LOCAL_HOPS)[at[is_inner] - half]
        found[:, is_inner] = np.percentile(windows, percentiles, axis=1)
    for number in np.flatnonzero(~is_inner):
        found[:, number] = np.percentile(levels[max(0, at[number] - half) : at[number] + half], percentiles)
    return [np.interp(np.arange(len(levels)), at, each) for each in found]


def _without_short(flags: NDArray[np.bool_], shortest: int) -> NDArray[np.bool_]:
    """Only runs of at least so many."""
    kept = np.zeros_like(flags)
    for first, last in runs(flags):
        if last - first >= shortest:
            kept[first:last] = True
    return kept
