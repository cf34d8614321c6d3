"""What a limiter makes of a signal: loudness and peaks after its gain curve, from the hops. No audio is touched."""

from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from ..kernels import Floats, Integers, kernel, vectorised
from ..measure.envelope import HOPS_PER_ENERGY, HOPS_PER_SECOND, LOWEST_DB, STEPS_PER_DB
from ..measure.gating import gating_blocks
from ..measure.hop_files import Hops
from ..measure.k_weighting import low_band_biquad
from ..measure.low_band import FULL_SCALE as LOW_FULL_SCALE
from ..units import db_from_ratio
from ..values import Limiter, PeakKind, Place, Reading
from .gain_curve import BLOCK_HOPS, SPLINE_HOPS, Curve, gain_curve

LEAD_HOPS = 64
"""The low band's filter begins so long before it is asked: it forgets what was before."""

BENDING = 0.97
"""Where no node is lower, a curve moves so little that the low band's energy follows its mean square."""

LOW_UNIT = 1.0 / LOW_FULL_SCALE

HEAD_SHARE = 0.5
"""About what plain energy is of K-weighted energy over the low band, whose head lifts it by up to 4 dB."""

PLACE_DB, PLACES_JOINED_S = 0.1, 0.3
"""Limiting deeper than this has a place; places closer than that are one."""

SINGLE_PEAKS_DB = 0.1
"""Losses under this are of single peaks (found by trying)."""

# Rows of the scratch that energies are computed in, each a block long; the rest is the low band's memory.
_BEFORE, _AFTER, _PLAIN, _GAINS, _MEANS, _TOTAL, _LEFT, _PLAIN_TOTAL, _PLAIN_LEFT, _ROWS = range(10)


@dataclass(frozen=True)
class Left:
    """What a curve leaves of a signal after a gain: energies and squares as in `Curves`."""

    gain_db: float
    curve: Curve
    energies: NDArray[np.float64]
    squares: NDArray[np.float64]

    @cached_property
    def blocks(self) -> NDArray[np.float64]:
        """The 400 ms blocks of the two gates."""
        return gating_blocks(self.energies)


@dataclass(frozen=True)
class Limited:
    """What a gain and a limiter make of a signal.

    lowest: the lowest node of every 10 ms; peaks: largest sample and true peak as ratios of ±1.0.
    """

    left: Left
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
        per_second = HOPS_PER_SECOND // HOPS_PER_ENERGY
        breaks = np.flatnonzero(np.diff(deep) > PLACES_JOINED_S * per_second)
        starts, ends = deep[np.append(0, breaks + 1)], deep[np.append(breaks, len(deep) - 1)] + 1
        return tuple(zip((starts / per_second).tolist(), (ends / per_second).tolist(), strict=True))


class Envelope:
    """A signal as the limiter sees it: the hops, and the largest peak of every block of them."""

    def __init__(self, hops: Hops, reading: Reading, kind: PeakKind) -> None:
        """reading: with its curves; kind: the peaks that the ceiling is for."""
        self._hops, self._reading = hops, reading
        self._codes = hops.true_peaks if kind == "true_peak" else hops.sample_peaks
        self._biquad = _recursive(low_band_biquad(HOPS_PER_SECOND, reading.source.sample_rate_hz))
        self._weights = np.array(reading.source.layout.weights)
        starts = np.arange(0, len(self._codes), BLOCK_HOPS)
        peaks = [np.maximum.reduceat(codes, starts) for codes in (hops.sample_peaks, hops.true_peaks)]
        self._block_peaks = peaks
        self._block_codes = peaks[kind == "true_peak"].astype(np.int64)

    @property
    def highest_db(self) -> float:
        """The largest peak in dB."""
        return int(self._block_codes.max()) / STEPS_PER_DB + LOWEST_DB

    def about_gain_db(self, unlimited_db: float, ceiling_db: float) -> float:
        """About the gain after whose limiting the level is that of a plain gain.

        What little is lost at first is lost to single peaks, which are shorter than a block.
        """
        drives_db, lost_db = self._losses
        unlimited_drive_db = unlimited_db - ceiling_db
        lost = max(0.0, float(np.interp(unlimited_drive_db, drives_db - lost_db, drives_db)) - unlimited_drive_db)
        return unlimited_db + lost * lost / (lost + SINGLE_PEAKS_DB)

    def nearer_gain_db(self, unlimited_db: float, ceiling_db: float, gain_db: float, lost_db: float) -> float:
        """The same where a gain is known to lose so much: each loses as many times what blocks would lose."""
        drives_db, would_lose_db = self._losses
        by_blocks_db = float(np.interp(gain_db - ceiling_db, drives_db, would_lose_db))
        times = lost_db / by_blocks_db if by_blocks_db > 0.0 else 0.0
        reached_db = np.maximum.accumulate(drives_db - times * would_lose_db)
        return float(np.interp(unlimited_db - ceiling_db, reached_db, drives_db)) + ceiling_db

    @cached_property
    def _losses(self) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
        """The gain less the ceiling at which each block begins to be held, ascending, and how much is lost there.

        As if every block whose peak passes the ceiling were lowered as a whole, by as much.
        """
        drives_db = -(self._block_codes / STEPS_PER_DB + LOWEST_DB)
        order = np.argsort(drives_db)
        drives_db, energies = drives_db[order], self._block_energies()[order]
        gains = 10.0 ** (drives_db / 10.0)
        held = np.cumsum(energies * gains)
        free = energies.sum() - np.cumsum(energies)
        with np.errstate(divide="ignore", invalid="ignore"):
            return drives_db, drives_db - 10.0 * np.log10((held + free * gains) / energies.sum())

    def _block_energies(self) -> NDArray[np.float64]:
        """The energy of every block of hops; an incomplete last one has none."""
        per_block = BLOCK_HOPS // HOPS_PER_ENERGY
        energies = self._reading.curves.energies
        whole = energies[: len(energies) // per_block * per_block].reshape(-1, per_block) @ np.ones(per_block)
        return np.append(whole, np.zeros(len(self._block_codes) - len(whole)))

    def limited(self, gain_db: float, limiter: Limiter) -> Limited:
        """The signal after a gain and the limiter."""
        return self.finished(self.left(gain_db, limiter))

    def left(self, gain_db: float, limiter: Limiter) -> Left:
        """The energies alone: all that the search for a gain asks for."""
        return self.left_by(gain_curve(self._codes, self._block_codes, limiter, gain_db), gain_db)

    def left_by(self, curve: Curve, gain_db: float) -> Left:
        """The energies after a gain and a curve that may be another signal's; where that ends nothing is limited."""
        curves, gain = self._reading.curves, 10.0 ** (gain_db / 10.0)
        energies, squares = curves.energies * gain, curves.squares * gain
        ones = np.ones(LEAD_HOPS + SPLINE_HOPS, np.float32)
        scratch, memory = np.zeros((_ROWS, BLOCK_HOPS)), np.zeros((len(self._weights), 4))
        bands = self._hops.weighted, self._hops.low_band, self._biquad, self._weights
        leave_energies(curve.rows, curve.row_of, *bands, energies, squares, ones, scratch, memory)
        return Left(gain_db, curve, energies, squares)

    def finished(self, left: Left) -> Limited:
        """The peaks too, and how deep and how long it limits."""
        curve, gain = left.curve, 10.0 ** (left.gain_db / 20.0)
        lowest = np.ones(-(-len(self._codes) // HOPS_PER_ENERGY), np.float32)
        highest, limited_hops = np.zeros(2), np.zeros(1, np.int64)
        peaks = self._hops.sample_peaks, self._hops.true_peaks
        leave_peaks(curve.rows, curve.row_of, *peaks, _LEVELS, highest, limited_hops, lowest)
        sample_peak, true_peak = (
            gain * max(pair) for pair in zip(highest, self._untouched_peaks(curve), strict=True)
        )
        depth_db = -db_from_ratio(float(lowest.min()))
        share_ratio = int(limited_hops[0]) / len(self._codes)
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


def _levels() -> NDArray[np.float32]:
    """The magnitude of every code."""
    levels = 10.0 ** ((np.arange(2**16) / STEPS_PER_DB + LOWEST_DB) / 20.0)
    levels[0] = 0.0
    return levels.astype(np.float32)


_LEVELS = _levels()


def _recursive(biquad: NDArray[np.float64]) -> NDArray[np.float64]:
    """b0, e1, e2, a1, a2 of a biquad with its output put into the recursion: the fewest results wait for another.

    After y = b0 · x + p: p = e1 · x + q - a1 · p and q = e2 · x - a2 · p.
    """
    b0, b1, b2, a1, a2 = biquad
    return np.array([b0, b1 - a1 * b0, b2 - a2 * b0, a1, a2])


@vectorised
def leave_energies(
    rows: Floats,
    row_of: Integers,
    weighted: Floats,
    low_band: Integers,
    biquad: Floats,
    weights: Floats,
    energies: Floats,
    squares: Floats,
    ones: Floats,
    scratch: Floats,
    memory: Floats,
) -> None:
    """Change energies and squares where a curve works.

    ones: nodes of LEAD_HOPS without limiting; scratch: _ROWS × a block; memory: channels × 4.
    """
    hops, filtered = len(weighted), False
    for block in range(len(row_of)):
        if row_of[block] < 0 or block * BLOCK_HOPS >= hops:
            filtered = False
            continue
        first, last = block * BLOCK_HOPS, min((block + 1) * BLOCK_HOPS, hops)
        part = rows[row_of[block], : last - first + SPLINE_HOPS]
        mean_squares(part, scratch[_MEANS])
        bends = lowest_of(part) < BENDING
        if bends and not filtered:
            lead = min(first, LEAD_HOPS)
            memory[:] = 0.0
            led = rows[row_of[block - 1], BLOCK_HOPS - lead :] if block and row_of[block - 1] >= 0 else ones
            filter_low(low_band[first - lead : first], led, biquad, weights, memory, scratch)
        if bends:
            filter_low(low_band[first:last], part, biquad, weights, memory, scratch)
        else:
            scratch[:_GAINS] = 0.0
        filtered = bends
        _apply(weighted[first:last], scratch)
        at = first // HOPS_PER_ENERGY
        _change(scratch, energies[at:], squares[at:], (last - first) // HOPS_PER_ENERGY)


@vectorised
def lowest_of(nodes: Floats) -> float:
    """The lowest of some nodes."""
    lowest = nodes[0]
    for at in range(len(nodes)):
        lowest = nodes[at] if nodes[at] < lowest else lowest
    return float(lowest)


@vectorised
def mean_squares(nodes: Floats, means: Floats) -> None:
    """Mean square of the curve over each hop (arithmetic: integrals of the products of a cubic B-spline's basis)."""
    first, second, third, fourth = nodes, nodes[1:], nodes[2:], nodes[SPLINE_HOPS:]
    for at in range(len(nodes) - SPLINE_HOPS):
        a, b, c, d = float(first[at]), float(second[at]), float(third[at]), float(fourth[at])
        mean = 20.0 * (a * a + d * d) + 1188.0 * (b * b + c * c)
        means[at] = (mean + 2.0 * (129.0 * (a * b + c * d) + 60.0 * (a * c + b * d) + a * d + 933.0 * b * c)) / 5040.0


@vectorised
def filter_low(
    low_band: Integers, nodes: Floats, biquad: Floats, weights: Floats, memory: Floats, scratch: Floats
) -> None:
    """Energies of the low band in some hops: K-weighted without and with the curve, and as it is.

    nodes: those of these hops; biquad: see `_recursive`; memory: channels × 4, of both filters, carried on; scratch:
    the first three rows are written, the fourth is used.
    """
    before, after, plain, gains = scratch[_BEFORE], scratch[_AFTER], scratch[_PLAIN], scratch[_GAINS]
    second, third = nodes[1:], nodes[2:]
    for hop in range(len(low_band)):
        gains[hop] = (float(nodes[hop]) + 4.0 * float(second[hop]) + float(third[hop])) / 6.0
        before[hop], after[hop], plain[hop] = 0.0, 0.0, 0.0
    for channel in range(len(weights)):
        if weights[channel] > 0.0:
            low, curved = scratch[_TOTAL, : len(low_band)], scratch[_LEFT, : len(low_band)]
            for hop in range(len(low)):
                low[hop] = LOW_UNIT * float(low_band[hop, channel])
            for hop in range(len(low)):
                plain[hop] += low[hop] * low[hop]
            for hop in range(len(low)):
                curved[hop] = low[hop] * gains[hop]
            _filter_both(low, curved, biquad, memory[channel])
            for hop in range(len(low)):
                before[hop] += weights[channel] * (low[hop] * low[hop])
            for hop in range(len(low)):
                after[hop] += weights[channel] * (curved[hop] * curved[hop])


@kernel
def _filter_both(low: Floats, curved: Floats, biquad: Floats, memory: Floats) -> None:
    """Two signals through a biquad, in place: neither waits for the other. memory: two values of each, carried on.

    In strict order, which is that in which the fewest results wait for another: see `_recursive`.
    """
    b0, e1, e2, a1, a2 = biquad[0], biquad[1], biquad[2], biquad[3], biquad[4]
    p, q, r, s = memory[0], memory[1], memory[2], memory[3]
    for hop in range(len(low)):
        x, y = low[hop], curved[hop]
        low[hop], curved[hop] = b0 * x + p, b0 * y + r
        p, q = (e1 * x + q) - a1 * p, e2 * x - a2 * p
        r, s = (e1 * y + s) - a1 * r, e2 * y - a2 * r
    memory[0], memory[1], memory[2], memory[3] = p, q, r, s


@vectorised
def _apply(weighted: Floats, scratch: Floats) -> None:
    """What some hops hold before and after the curve, K-weighted and plain.

    The mean square of the curve changes all but the low band, which changes by what its filter says.
    """
    before, after, plain, means = scratch[_BEFORE], scratch[_AFTER], scratch[_PLAIN], scratch[_MEANS]
    total, left = scratch[_TOTAL], scratch[_LEFT]
    plain_total, plain_left = scratch[_PLAIN_TOTAL], scratch[_PLAIN_LEFT]
    # Each loop writes one array: with several the compiler takes one hop at a time.
    for hop in range(len(weighted)):
        total[hop] = weighted[hop]
    for hop in range(len(weighted)):
        left[hop] = (total[hop] - before[hop]) * means[hop] + after[hop]
    for hop in range(len(weighted)):
        plain_total[hop] = HEAD_SHARE * (total[hop] - before[hop]) + plain[hop]
    for hop in range(len(weighted)):
        plain_left[hop] = plain_total[hop] * means[hop]


@vectorised
def _change(scratch: Floats, energies: Floats, squares: Floats, count: int) -> None:
    """Change so many energies and squares by what is left of theirs in the scratch."""
    for energy in range(count):
        total, left, plain_total, plain_left = 0.0, 0.0, 0.0, 0.0
        for hop in range(energy * HOPS_PER_ENERGY, (energy + 1) * HOPS_PER_ENERGY):
            total += scratch[_TOTAL, hop]
            left += scratch[_LEFT, hop]
            plain_total += scratch[_PLAIN_TOTAL, hop]
            plain_left += scratch[_PLAIN_LEFT, hop]
        if total > 0.0:
            energies[energy] *= max(0.0, left) / total
        if plain_total > 0.0:
            squares[energy] *= min(1.0, max(0.0, plain_left / plain_total))


@vectorised
def leave_peaks(
    rows: Floats,
    row_of: Integers,
    sample_codes: Integers,
    true_codes: Integers,
    levels: Floats,
    highest: Floats,
    limited_hops: Integers,
    lowest: Floats,
) -> None:
    """Raise the largest sample and true peak to what the blocks have in which a curve works.

    Counts the hops that it limits, and writes the lowest node of every 10 ms of those blocks.
    """
    for block in range(len(row_of)):
        if row_of[block] < 0 or block * BLOCK_HOPS >= len(true_codes):
            continue
        first, last = block * BLOCK_HOPS, min((block + 1) * BLOCK_HOPS, len(true_codes))
        part = rows[row_of[block], : last - first + SPLINE_HOPS]
        for start in range(0, last - first, HOPS_PER_ENERGY):
            end = start + HOPS_PER_ENERGY + SPLINE_HOPS
            lowest[(first + start) // HOPS_PER_ENERGY] = lowest_of(part[start:end])
        samples, trues = sample_codes[first:last], true_codes[first:last]
        second, third, fourth = part[1:], part[2:], part[SPLINE_HOPS:]
        limited, sample_peak, true_peak = 0, highest[0], highest[1]
        for hop in range(len(samples)):
            a, b, c, d = float(part[hop]), float(second[hop]), float(third[hop]), float(fourth[hop])
            limited += 1 if a + b + c + d < 4.0 else 0
            early, middle, late = (a + 4.0 * b + c) / 6.0, (a + 23.0 * (b + c) + d) / 48.0, (b + 4.0 * c + d) / 6.0
            gain = early if early > late else late
            gain = gain if gain > middle else middle
            sample, true = float(levels[samples[hop]]) * gain, float(levels[trues[hop]]) * gain
            sample_peak = sample if sample > sample_peak else sample_peak
            true_peak = true if true > true_peak else true_peak
        limited_hops[0] += limited
        highest[0], highest[1] = sample_peak, true_peak
