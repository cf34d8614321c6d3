"""What a limiter makes of a signal: loudness and peaks after its gain curve, from the hops. No audio is touched."""

from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from ..kernels import Floats, Integers, vectorised
from ..measure.envelope import ENVELOPE_HOPS_PER_SECOND, HOPS_PER_ENERGY, LOWEST_DB, STEPS_PER_DB
from ..measure.gating import gating_blocks
from ..measure.hop_files import Hops
from ..units import db_from_energies, db_from_ratio, energies_from_db, ratios_from_db
from ..values import Limiter, PeakKind, Place, Reading
from .gain_curve import BLOCK_ENERGIES, BLOCK_HOPS, ROW_NODES, SPLINE_HOPS, Curve, gain_curve
from .left_energies import change_energies, low_band_filter

PLACE_DB, PLACES_JOINED_S = 0.1, 0.3
"""Limiting deeper than this has a place; places closer than that are one."""

SINGLE_PEAKS_DB = 0.1
"""Losses under this are of single peaks (found by trying)."""


@dataclass(frozen=True)
class AfterCurve:
    """A signal after a gain and a gain curve: energies and squares as in `Curves`.

    is_computed: from the hops; else extrapolated from two others.
    """

    gain_db: float
    curve: Curve
    energies: NDArray[np.float64]
    squares: NDArray[np.float64]
    is_computed: bool = True

    @cached_property
    def blocks(self) -> NDArray[np.float64]:
        """The 400 ms blocks of the two gates."""
        return gating_blocks(self.energies)


@dataclass(frozen=True)
class Limited:
    """What a gain and a limiter make of a signal.

    lowest: the lowest node of every 10 ms; peaks: largest sample and true peak as ratios of ±1.0.
    """

    left: AfterCurve
    lowest: NDArray[np.float32]
    sample_peak: float
    true_peak: float
    depth_db: float
    share_ratio: float

    def places(self) -> tuple[Place, ...]:
        """Where it limits, in seconds."""
        deep = np.flatnonzero(self.lowest < 10.0 ** (-PLACE_DB / 20.0))
        if len(deep) == 0:
            return ()
        per_second = ENVELOPE_HOPS_PER_SECOND // HOPS_PER_ENERGY
        breaks = np.flatnonzero(np.diff(deep) > PLACES_JOINED_S * per_second)
        starts, ends = deep[np.append(0, breaks + 1)], deep[np.append(breaks, len(deep) - 1)] + 1
        return tuple(zip((starts / per_second).tolist(), (ends / per_second).tolist(), strict=True))


class Envelope:
    """A signal as the limiter sees it: the hops, and the largest peak of every block of them."""

    def __init__(self, hops: Hops, reading: Reading, kind: PeakKind) -> None:
        """reading: with its curves; kind: the peaks that the ceiling is for."""
        self._hops, self._reading = hops, reading
        self._codes = hops.true_peaks if kind == "true_peak" else hops.sample_peaks
        self._biquad = low_band_filter(reading.source)
        self._weights = np.array(reading.source.layout.weights)
        self._block_peaks = peaks = [_highest_of_blocks(codes) for codes in (hops.sample_peaks, hops.true_peaks)]
        self._block_codes = peaks[kind == "true_peak"].astype(np.int64)

    @property
    def highest_db(self) -> float:
        """The largest peak in dB."""
        return int(self._block_codes.max()) / STEPS_PER_DB + LOWEST_DB

    def about_gain_db(self, unlimited_db: float, ceiling_db: float) -> float:
        """An estimate of the gain at which the limited signal is as loud as the signal after a plain gain.

        unlimited_db: that plain gain; ceiling_db: of the limiter. Small losses are reduced, for they come of single
        peaks, which are much shorter than the blocks of the estimate.
        """
        drives_db, lost_db = self._losses
        unlimited_drive_db = unlimited_db - ceiling_db
        lost = max(0.0, float(np.interp(unlimited_drive_db, drives_db - lost_db, drives_db)) - unlimited_drive_db)
        return unlimited_db + lost * lost / (lost + SINGLE_PEAKS_DB)

    def nearer_gain_db(self, unlimited_db: float, ceiling_db: float, gain_db: float, lost_db: float) -> float:
        """A better estimate, once the loss at one gain was measured.

        The block estimate of every loss is scaled by the measured over the estimated loss there. gain_db, lost_db:
        the gain at which the loss was measured, and that loss.
        """
        drives_db, would_lose_db = self._losses
        by_blocks_db = float(np.interp(gain_db - ceiling_db, drives_db, would_lose_db))
        times = lost_db / by_blocks_db if by_blocks_db > 0.0 else 0.0
        reached_db = np.maximum.accumulate(drives_db - times * would_lose_db)
        return float(np.interp(unlimited_db - ceiling_db, reached_db, drives_db)) + ceiling_db

    @cached_property
    def _losses(self) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
        """The block estimate: drives (gain less ceiling) in ascending order, and the loudness lost at each, in dB.

        A block is lowered as a whole, by as much as its peak passes the ceiling. Each block has a drive, at which its
        peak reaches the ceiling.
        """
        # From the highest on. A stable sort of short whole numbers goes by their digits.
        order = np.argsort(self._block_codes.astype(np.uint16), kind="stable")[::-1]
        drives_db = -(self._block_codes[order] / STEPS_PER_DB + LOWEST_DB)
        energies = self._block_energies()[order]
        gains = energies_from_db(drives_db)
        held = np.cumsum(energies * gains)
        free = energies.sum() - np.cumsum(energies)
        with np.errstate(divide="ignore", invalid="ignore"):
            return drives_db, drives_db - db_from_energies((held + free * gains) / energies.sum())

    def _block_energies(self) -> NDArray[np.float64]:
        """The energy of every block of hops; an incomplete last one has none."""
        per_block = BLOCK_HOPS // HOPS_PER_ENERGY
        energies = self._reading.curves.energies
        whole = energies[: len(energies) // per_block * per_block].reshape(-1, per_block) @ np.ones(per_block)
        return np.append(whole, np.zeros(len(self._block_codes) - len(whole)))

    def limited(self, gain_db: float, limiter: Limiter) -> Limited:
        """The signal after a gain and the limiter."""
        return self.finished(self.left(gain_db, limiter))

    def left(self, gain_db: float, limiter: Limiter) -> AfterCurve:
        """The energies alone: all that the search for a gain asks for."""
        return self.left_by(self._curve(gain_db, limiter), gain_db)

    def left_in_line(self, gain_db: float, limiter: Limiter, before: AfterCurve, last: AfterCurve) -> AfterCurve:
        """The same by linear extrapolation, in a third of the time, for a gain close to that of the last one."""
        times = (gain_db - last.gain_db) / (last.gain_db - before.gain_db)
        energies, squares = np.empty_like(last.energies), np.empty_like(last.squares)
        go_on(before.energies, last.energies, times, energies)
        go_on(before.squares, last.squares, times, squares)
        return AfterCurve(gain_db, self._curve(gain_db, limiter), energies, squares, is_computed=False)

    def _curve(self, gain_db: float, limiter: Limiter) -> Curve:
        return gain_curve(self._codes, self._block_codes, limiter, gain_db)

    def left_by(self, curve: Curve, gain_db: float) -> AfterCurve:
        """The energies after a gain and a curve, which may be another signal's: past its end nothing is limited."""
        curves, gain = self._reading.curves, 10.0 ** (gain_db / 10.0)
        energies, squares = curves.energies * gain, curves.squares * gain
        change_energies(curve, self._hops, self._biquad, self._weights, energies, squares)
        return AfterCurve(gain_db, curve, energies, squares)

    def finished(self, left: AfterCurve) -> Limited:
        """The peaks too, and how deep and how long it limits."""
        curve, gain = left.curve, 10.0 ** (left.gain_db / 20.0)
        lowest = np.ones(-(-len(self._codes) // HOPS_PER_ENERGY), np.float32)
        highest, limited = np.zeros((2, BLOCK_HOPS), np.float32), np.zeros(BLOCK_HOPS, np.int32)
        peaks, scratch = (self._hops.sample_peaks, self._hops.true_peaks), np.ones((2, ROW_NODES), np.float32)
        leave_peaks(curve.rows, curve.row_of, *peaks, _LEVELS, highest, limited, lowest, scratch)
        sample_peak, true_peak = (
            gain * max(pair) for pair in zip(highest.max(axis=1).tolist(), self._untouched_peaks(curve), strict=True)
        )
        depth_db = -db_from_ratio(float(lowest.min()))
        share_ratio = int(limited.sum()) / len(self._codes)
        return Limited(left, lowest, sample_peak, true_peak, depth_db, share_ratio)

    def _untouched_peaks(self, curve: Curve) -> tuple[float, float]:
        """Largest sample and true peak of the blocks that a curve leaves alone."""
        count = len(self._block_codes)
        untouched = np.ones(count, np.bool_)
        untouched[: len(curve.row_of)] = curve.row_of[:count] < 0
        if not untouched.any():
            return 0.0, 0.0
        sample, true = (float(_LEVELS[codes[untouched].max()]) for codes in self._block_peaks)
        return sample, true


def _highest_of_blocks(codes: NDArray[np.uint16]) -> NDArray[np.uint16]:
    highest = np.empty(-(-len(codes) // BLOCK_HOPS), np.uint16)
    highest_of_blocks(codes, highest)
    return highest


def _levels() -> NDArray[np.float32]:
    """The magnitude of every code."""
    levels = ratios_from_db(np.arange(2**16) / STEPS_PER_DB + LOWEST_DB)
    levels[0] = 0.0
    return levels.astype(np.float32)


_LEVELS = _levels()


@vectorised
def highest_of_blocks(codes: Integers, highest: Integers) -> None:
    """Write the highest code of each block of BLOCK_HOPS; the last one may be shorter."""
    for block in range(len(highest)):
        part = codes[block * BLOCK_HOPS : (block + 1) * BLOCK_HOPS]
        found = part[0]
        for at in range(len(part)):
            found = max(found, part[at])
        highest[block] = found


@vectorised
def go_on(before: Floats, last: Floats, times: float, found: Floats) -> None:
    """Write the linear extrapolation of two arrays, nothing below 0: last + times × (last − before)."""
    for at in range(len(found)):
        found[at] = max(0.0, last[at] + times * (last[at] - before[at]))


@vectorised
def leave_peaks(
    rows: Floats,
    row_of: Integers,
    sample_codes: Integers,
    true_codes: Integers,
    levels: Floats,
    highest: Floats,
    limited: Integers,
    lowest: Floats,
    scratch: Floats,
) -> None:
    """Raise the largest peaks to what the blocks have in which a curve works, and count the hops that it limits.

    highest: largest sample and true peak × hops of a block; limited: hops of a block; both over all blocks. lowest:
    the lowest node of every 10 ms, written in those blocks. scratch: 2 × ROW_NODES. Each loop raises an array: the
    largest of all would be looked for one by one.
    """
    gains = scratch[0]
    for block in range(len(row_of)):
        if row_of[block] < 0 or block * BLOCK_HOPS >= len(true_codes):
            continue
        first, last = block * BLOCK_HOPS, min((block + 1) * BLOCK_HOPS, len(true_codes))
        row = rows[row_of[block]]
        _lowest_of_energies(row, scratch, lowest[first // HOPS_PER_ENERGY :])
        second, third, fourth = row[1:], row[2:], row[SPLINE_HOPS:]
        for hop in range(last - first):
            a, b, c, d = float(row[hop]), float(second[hop]), float(third[hop]), float(fourth[hop])
            early, middle, late = (a + 4.0 * b + c) / 6.0, (a + 23.0 * (b + c) + d) / 48.0, (b + 4.0 * c + d) / 6.0
            gains[hop] = max(early, middle, late)
        for hop in range(last - first):
            sum_of_nodes = float(row[hop]) + float(second[hop]) + float(third[hop]) + float(fourth[hop])
            limited[hop] += 1 if sum_of_nodes < 4.0 else 0
        _raise(highest[0], sample_codes[first:last], levels, gains)
        _raise(highest[1], true_codes[first:last], levels, gains)


@vectorised
def _lowest_of_energies(row: Floats, scratch: Floats, lowest: Floats) -> None:
    """Write the lowest node of each 10 ms of a block: first of 2 neighbours, then of 4, of 8 and of all it is."""
    one, other = scratch[0], scratch[1]
    _lower_of_two(row, row[1:], one)
    _lower_of_two(one, one[2:], other)
    _lower_of_two(other, other[4:], one)
    _lower_of_two(one, one[HOPS_PER_ENERGY + SPLINE_HOPS - 8 :], other)
    for energy in range(min(BLOCK_ENERGIES, len(lowest))):
        lowest[energy] = other[energy * HOPS_PER_ENERGY]


@vectorised
def _lower_of_two(one: Floats, other: Floats, lower: Floats) -> None:
    for at in range(len(other)):
        lower[at] = min(one[at], other[at])


@vectorised
def _raise(highest: Floats, codes: Integers, levels: Floats, gains: Floats) -> None:
    for hop in range(len(codes)):
        highest[hop] = max(highest[hop], levels[codes[hop]] * gains[hop])
