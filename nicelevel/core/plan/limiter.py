"""The limiter: its gain curve, from the peaks of every millisecond. Plan and render use the same curve.

The curve has a node at every border of two hops and is a cubic B-spline between: smooth, and nowhere above the
largest of the four nodes that it is made of. In the order of the signal:

- What each hop allows comes from its peak and the ceiling (`allowed_ratios`).
- The smallest of what is allowed over a look-ahead and a short hold. All hops that a node will touch are in that
  window, so that neither the smoothing nor the spline can pass what is allowed.
- Gain comes back by a steady rise in dB: fast after a single peak, slowly where peaks are dense.
- A Hann window as long as the look-ahead smooths the way down and up.

Only where a peak passes the ceiling is anything computed; elsewhere every node is exactly 1.
"""

import math
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ..kernels import Floats, Integers, kernel, vectorised
from ..measure.envelope import HOPS_PER_ENERGY, HOPS_PER_SECOND, LOWEST_DB, STEPS_PER_DB
from ..measure.hop_files import Hops
from ..measure.k_weighting import low_band_biquad
from ..measure.low_band import FULL_SCALE as LOW_FULL_SCALE
from ..units import db_from_ratio
from ..values import Limiter, PeakKind, Place, Reading

BLOCK_HOPS = 160
HOLD_HOPS = 10
"""Gain waits so long before it comes back: half a period of 50 Hz, so that a low tone does not move it."""

SPLINE_HOPS = 3
"""A node touches the hops from this many before it to itself."""

DENSITY_S = 0.4
"""How far back the share of limited time is looked at that slows the way back."""

DENSITY_STEP = HOPS_PER_ENERGY / (DENSITY_S * HOPS_PER_SECOND)

DENSITY_LEFT = (1.0 - DENSITY_STEP) ** (BLOCK_HOPS // HOPS_PER_ENERGY)
"""What is left of the density after a block without limiting."""

SPARSE_SHARE, DENSE_SHARE, SLOWER = 0.25, 0.75, 16.0
"""Up to the first share gain comes back at full speed, from the second on so many times slower."""

LEAD_HOPS = 64
"""The low band's filter begins so long before it is asked: it forgets what was before."""

BENDING = 0.97
"""Where no node is lower, a curve moves so little that the low band's energy follows its mean square."""

LOW_UNIT = 1.0 / LOW_FULL_SCALE

HEAD_SHARE = 0.5
"""About what plain energy is of K-weighted energy over the low band, whose head lifts it by up to 4 dB."""

PLACE_DB, PLACES_JOINED_S = 0.1, 0.3
"""Limiting deeper than this has a place; places closer than that are one."""


@dataclass(frozen=True)
class Limited:
    """What a gain and a limiter make of a signal.

    nodes: of the limiter's curve, as ratios, SPLINE_HOPS more than hops; those of hop k are k to k + SPLINE_HOPS;
    lowest: the lowest node of every 10 ms; energies, squares: as in `Curves`; peaks: largest sample and true peak as
    ratios of ±1.0.
    """

    nodes: NDArray[np.float32]
    lowest: NDArray[np.float32]
    energies: NDArray[np.float64]
    squares: NDArray[np.float64]
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
        self.codes = np.ascontiguousarray(hops.true_peaks if kind == "true_peak" else hops.sample_peaks)
        self._sample_codes, self._true_codes = hops.sample_peaks, hops.true_peaks
        self._hops, self._energies, self._squares = hops, reading.curves.energies, reading.curves.squares
        self._biquad = low_band_biquad(HOPS_PER_SECOND, reading.source.sample_rate_hz)
        self._weights = np.array(reading.source.layout.weights)
        starts = np.arange(0, len(self.codes), BLOCK_HOPS)
        self._block_peaks = [np.maximum.reduceat(codes, starts) for codes in (self._sample_codes, self._true_codes)]
        self._block_codes = self._block_peaks[kind == "true_peak"].astype(np.int64)
        self.highest_code = int(self._block_codes.max())

    @property
    def highest_db(self) -> float:
        """The largest peak in dB."""
        return self.highest_code / STEPS_PER_DB + LOWEST_DB

    def limited(self, gain_db: float, limiter: Limiter) -> Limited:
        """The signal after a gain and the limiter."""
        gain = 10.0 ** (gain_db / 20.0)
        lowest_code, allowed = allowed_ratios(limiter.ceiling_db - gain_db, limiter.soft_db, self.highest_code)
        nodes = np.ones(len(self.codes) + SPLINE_HOPS, np.float32)
        lowest = np.ones(-(-len(self.codes) // HOPS_PER_ENERGY), np.float32)
        energies, squares = self._energies * gain**2, self._squares * gain**2
        touched = np.zeros(len(self._block_codes), np.int64)
        highest_after, limited_hops = np.zeros(2), np.zeros(1, np.int64)
        run_limiter(
            self.codes, self._sample_codes, self._true_codes, self._hops.weighted, self._hops.low_band,
            self._biquad, self._weights, self._block_codes, lowest_code, allowed,
            _LEVELS, hann(limiter.look_ahead_ms), steps_back(limiter.release_ms), energies, squares, nodes, touched,
            highest_after, limited_hops, lowest, *_scratch(limiter.look_ahead_ms, len(self._weights)),
        )  # fmt: skip
        sample_peak, true_peak = (
            max(x) for x in zip(highest_after, self._untouched_peaks(touched == 0), strict=True)
        )
        return Limited(
            nodes,
            lowest,
            energies,
            squares,
            sample_peak * gain,
            true_peak * gain,
            -db_from_ratio(float(lowest.min())),
            int(limited_hops[0]) / len(self.codes),
        )

    def _untouched_peaks(self, untouched: NDArray[np.bool_]) -> tuple[float, float]:
        """Largest sample and true peak of the blocks that the limiter leaves alone."""
        if not untouched.any():
            return 0.0, 0.0
        sample, true = (float(_LEVELS[codes[untouched].max()]) for codes in self._block_peaks)
        return sample, true


def steps_back(release_ms: float) -> NDArray[np.float32]:
    """By how much gain comes back in a hop, as a ratio, for densities from 0 to 1; at best 6 dB in release_ms."""
    density = np.linspace(0.0, 1.0, 65)
    slowness = np.clip((density - SPARSE_SHARE) / (DENSE_SHARE - SPARSE_SHARE), 0.0, 1.0)
    rise_db = 6.0 / release_ms / SLOWER**slowness
    return (10.0 ** (rise_db / 20.0)).astype(np.float32)


def _scratch(look_ahead_ms: int, channels: int) -> tuple[NDArray[np.int32], *tuple[NDArray[Any], ...]]:
    """Room for what `run_limiter` works on.

    Codes of a block with its windows, and the highest of each; gains coming back; a line of nodes, and the state of
    the way back; three energies of the low band, its gains, mean squares of the curve, a memory for each channel.
    """
    reach = HOLD_HOPS + look_ahead_ms + SPLINE_HOPS - 1
    windows = np.zeros((2, BLOCK_HOPS + reach), np.int32)
    rises, line = np.ones(look_ahead_ms - 1 + BLOCK_HOPS, np.float32), np.zeros(BLOCK_HOPS + 2, np.float32)
    return windows, rises, line, np.zeros((5 + channels, BLOCK_HOPS))


def hann(look_ahead_ms: int) -> NDArray[np.float32]:
    """The smoothing window, one value for each hop of the look-ahead; its sum is 1."""
    window = np.sin(np.pi * np.arange(1, look_ahead_ms + 1) / (look_ahead_ms + 1)) ** 2
    shares: NDArray[np.float32] = (window / window.sum()).astype(np.float32)
    return shares


def allowed_ratios(ceiling_db: float, soft_db: float, highest_code: int) -> tuple[int, NDArray[np.float32]]:
    """What peaks allow, as a ratio for each code from the first one given on; below it 1.

    Without a soft knee the ceiling less the peak. With one, reduction begins half the knee under the ceiling, and is
    that of the ceiling alone from half the knee over it.
    """
    first_db = ceiling_db - soft_db / 2.0
    lowest = max(0, math.floor((first_db - LOWEST_DB) * STEPS_PER_DB))
    over_db = np.arange(lowest, max(lowest, highest_code) + 1) / STEPS_PER_DB + LOWEST_DB - ceiling_db
    reduction_db = np.maximum(0.0, over_db)
    if soft_db > 0.0:
        in_knee = np.abs(over_db) < soft_db / 2.0
        reduction_db[in_knee] = (over_db[in_knee] + soft_db / 2.0) ** 2 / (2.0 * soft_db)
    return lowest, (10.0 ** (-reduction_db / 20.0)).astype(np.float32)


def _levels() -> NDArray[np.float32]:
    """The magnitude of every code."""
    levels = 10.0 ** ((np.arange(2**16) / STEPS_PER_DB + LOWEST_DB) / 20.0)
    levels[0] = 0.0
    return levels.astype(np.float32)


_LEVELS = _levels()


@kernel
def run_limiter(
    codes: Integers,
    sample_codes: Integers,
    true_codes: Integers,
    weighted: Floats,
    low_band: Integers,
    biquad: Floats,
    weights: Floats,
    block_codes: Integers,
    lowest_code: int,
    allowed: Floats,
    levels: Floats,
    window: Floats,
    steps: Floats,
    energies: Floats,
    squares: Floats,
    nodes: Floats,
    touched: Integers,
    highest_after: Floats,
    limited_hops: Integers,
    lowest: Floats,
    windows: Integers,
    rises: Floats,
    line: Floats,
    low: Floats,
) -> None:
    """Write the nodes of the gain curve where it limits, and what the signal is there afterwards.

    allowed: a ratio for every code from lowest_code on; steps: by how much gain comes back in a hop, by density;
    nodes: ones; energies, squares: before the limiter, changed where it works; touched: set to 1 for each block that
    it works in; highest_after: raised to the largest sample and true peak of those blocks; windows, rises, line,
    low: scratch, see `_scratch`.
    """
    hops, taps, blocks = len(codes), len(window), len(block_codes)
    rises[:] = 1.0
    state = line[BLOCK_HOPS:]
    state[0], state[1] = 1.0, 0.0
    filtered, at_rest = False, True
    # The block before the first looks ahead into it.
    for block in range(-1, blocks):
        first = block * BLOCK_HOPS
        near = block_codes[max(0, block)]
        near = max(near, block_codes[max(0, block - 1)], block_codes[min(blocks - 1, block + 1)])
        still = near <= lowest_code and state[0] >= 1.0
        if still and at_rest:
            state[1] *= DENSITY_LEFT
            continue
        at_rest = still
        for at in range(taps - 1):
            rises[at] = rises[at + BLOCK_HOPS]
            at_rest = at_rest and rises[at] >= 1.0
        if at_rest:
            filtered = False
            for at in range(taps - 1, len(rises)):
                rises[at] = 1.0
            state[1] *= DENSITY_LEFT
            continue
        _highest_in_windows(codes, first, taps, windows)
        _rise(windows, lowest_code, allowed, steps, state, rises[taps - 1 :])
        _smooth(rises, window, line)
        for at in range(max(0, -SPLINE_HOPS - first), min(BLOCK_HOPS, hops - first)):
            nodes[first + SPLINE_HOPS + at] = line[at]
        if block >= 0:
            touched[block] = 1
            count = min(BLOCK_HOPS, hops - first)
            limited_hops[0] += _squares_of(nodes, first, count, low[4], lowest)
            bends = _lowest_of(nodes, first, count) < BENDING
            if bends and not filtered:
                low[5:] = 0.0
                _filter_low(low_band, nodes, max(0, first - LEAD_HOPS), first, biquad, weights, low[5:], low)
            if bends:
                _filter_low(low_band, nodes, first, first + count, biquad, weights, low[5:], low)
            else:
                low[:3] = 0.0
            filtered = bends
            _apply(low, weighted, first, energies, squares)
            _raise_peaks(nodes, sample_codes, true_codes, levels, first, highest_after)


@vectorised
def _highest_in_windows(codes: Integers, first: int, taps: int, windows: Integers) -> None:
    """The highest code in the window of each hop of a block, from the hold before it to the look-ahead after it."""
    reach = HOLD_HOPS + taps + SPLINE_HOPS - 1
    part, found = windows[0], windows[1]
    start = first - HOLD_HOPS
    inside, outside = max(0, -start), min(BLOCK_HOPS + reach, len(codes) - start)
    for at in range(BLOCK_HOPS + reach):
        part[at] = 0
    known = codes[start + inside : start + outside]
    for at in range(len(known)):
        part[inside + at] = known[at]
    for at in range(BLOCK_HOPS):
        found[at] = part[at]
    for shift in range(1, reach + 1):
        moved = part[shift:]
        for at in range(BLOCK_HOPS):
            found[at] = moved[at] if moved[at] > found[at] else found[at]


@kernel
def _rise(windows: Integers, lowest_code: int, allowed: Floats, steps: Floats, state: Floats, rises: Floats) -> None:
    """What is allowed of each hop of a block, but never more than gain may have come back since the hop before."""
    found = windows[1]
    ratio, density = state[0], state[1]
    for start in range(0, BLOCK_HOPS, HOPS_PER_ENERGY):
        limits = 0.0
        for at in range(start, start + HOPS_PER_ENERGY):
            limits = 1.0 if found[at] > lowest_code else limits
        density += DENSITY_STEP * (limits - density)
        step = steps[int(density * (len(steps) - 1))]
        for at in range(start, start + HOPS_PER_ENERGY):
            most = allowed[found[at] - lowest_code] if found[at] > lowest_code else np.float32(1.0)
            ratio = min(ratio * step, most)
            rises[at] = ratio
    state[0], state[1] = ratio, density


@vectorised
def _smooth(rises: Floats, window: Floats, line: Floats) -> None:
    """Each hop of a block as the mean of itself and those before it; exactly 1 where all of them are."""
    for at in range(BLOCK_HOPS):
        line[at] = np.float32(1.0)
    for tap in range(len(window)):
        weight, part = window[tap], rises[tap:]
        for at in range(BLOCK_HOPS):
            line[at] -= weight * (np.float32(1.0) - part[at])


@vectorised
def _lowest_of(nodes: Floats, first: int, hops: int) -> float:
    """The lowest node of some hops."""
    lowest = nodes[first]
    for at in range(first, first + hops + SPLINE_HOPS):
        lowest = nodes[at] if nodes[at] < lowest else lowest
    return float(lowest)


@vectorised
def _squares_of(nodes: Floats, first: int, hops: int, means: Floats, lowest: Floats) -> int:
    """Mean square of the curve over each hop of a block; how many of them are limited. Writes the lowest nodes."""
    limited = 0
    for start in range(first, first + hops, HOPS_PER_ENERGY):
        count = min(HOPS_PER_ENERGY, first + hops - start)
        lowest[start // HOPS_PER_ENERGY] = _lowest_of(nodes, start, count)
    for at in range(hops):
        hop = first + at
        a, b, c, d = float(nodes[hop]), float(nodes[hop + 1]), float(nodes[hop + 2]), float(nodes[hop + 3])
        # Of a cubic B-spline between its nodes (arithmetic: integrals of the products of its basis).
        mean = 20.0 * (a * a + d * d) + 1188.0 * (b * b + c * c)
        mean += 2.0 * (129.0 * (a * b + c * d) + 60.0 * (a * c + b * d) + a * d + 933.0 * b * c)
        means[at] = mean / 5040.0
        limited += 1 if mean < 5040.0 else 0
    return limited


@kernel
def _filter_low(
    low_band: Integers,
    nodes: Floats,
    first: int,
    last: int,
    biquad: Floats,
    weights: Floats,
    memory: Floats,
    energies: Floats,
) -> None:
    """Energies of the low band in some hops: K-weighted without and with the curve, and as it is.

    memory: channels × 4, of both filters, carried on; energies: three rows of hops, and one of scratch.
    """
    b0, b1, b2, a1, a2 = biquad[0], biquad[1], biquad[2], biquad[3], biquad[4]
    gains = energies[3]
    for hop in range(first, last):
        gains[hop - first] = float(nodes[hop] + np.float32(4.0) * nodes[hop + 1] + nodes[hop + 2]) / 6.0
        for row in range(3):
            energies[row, hop - first] = 0.0
    for channel in range(low_band.shape[1]):
        weight = weights[channel]
        p, q, r, s = memory[channel, 0], memory[channel, 1], memory[channel, 2], memory[channel, 3]
        for hop in range(first, last if weight > 0.0 else first):
            x = LOW_UNIT * low_band[hop, channel]
            x_gained = x * gains[hop - first]
            y = b0 * x + p
            p = b1 * x - a1 * y + q
            q = b2 * x - a2 * y
            z = b0 * x_gained + r
            r = b1 * x_gained - a1 * z + s
            s = b2 * x_gained - a2 * z
            energies[0, hop - first] += weight * y * y
            energies[1, hop - first] += weight * z * z
            energies[2, hop - first] += x * x
        memory[channel, 0], memory[channel, 1], memory[channel, 2], memory[channel, 3] = p, q, r, s


@vectorised
def _apply(low: Floats, weighted: Floats, first: int, energies: Floats, squares: Floats) -> None:
    """Energies of a block after the curve.

    Each 10 ms changes by the mean square of the curve, weighted by the energy of every hop; the low band's share by
    what its filter says. low: three energies of the low band, see `_filter_low`; row 4: mean squares of the curve.
    """
    before, after, plain, means = low[0], low[1], low[2], low[4]
    for energy in range(first // HOPS_PER_ENERGY, min((first + BLOCK_HOPS) // HOPS_PER_ENERGY, len(energies))):
        total, left, plain_total, plain_left = 0.0, 0.0, 0.0, 0.0
        for at in range(energy * HOPS_PER_ENERGY - first, (energy + 1) * HOPS_PER_ENERGY - first):
            high = weighted[first + at] - before[at]
            total += weighted[first + at]
            left += high * means[at] + after[at]
            plain_total += HEAD_SHARE * high + plain[at]
            plain_left += (HEAD_SHARE * high + plain[at]) * means[at]
        if total > 0.0:
            energies[energy] *= max(0.0, left) / total
        if plain_total > 0.0:
            squares[energy] *= min(1.0, max(0.0, plain_left / plain_total))


@vectorised
def _raise_peaks(
    nodes: Floats, sample_codes: Integers, true_codes: Integers, levels: Floats, first: int, highest: Floats
) -> None:
    """Raise the largest sample and true peak to what a block has after the curve."""
    for hop in range(first, min(first + BLOCK_HOPS, len(true_codes))):
        a, b, c, d = nodes[hop], nodes[hop + 1], nodes[hop + 2], nodes[hop + 3]
        start, middle, end = (a + 4 * b + c) / 6, (a + 23 * (b + c) + d) / 48, (b + 4 * c + d) / 6
        gain = max(start, middle, end)
        sample, true = float(levels[sample_codes[hop]] * gain), float(levels[true_codes[hop]] * gain)
        highest[0] = sample if sample > highest[0] else highest[0]
        highest[1] = true if true > highest[1] else highest[1]


def under_curve(hops: Hops, reading: Reading, gain_db: float, other: Limited) -> Limited:
    """Another signal of the same length under a curve that was made for one: what a member of a set becomes."""
    nodes, count = other.nodes, len(hops.weighted)
    a, b, c, d = (nodes[at : at + count].astype(np.float64) for at in range(SPLINE_HOPS + 1))
    means, lowest = np.zeros(count), np.ones(-(-count // HOPS_PER_ENERGY), np.float32)
    _squares_of(nodes, 0, count, means, lowest)
    weights = np.array(reading.source.layout.weights)
    low, memory = np.zeros((4, count)), np.zeros((len(weights), 4))
    biquad = low_band_biquad(HOPS_PER_SECOND, reading.source.sample_rate_hz)
    _filter_low(hops.low_band, nodes, 0, count, biquad, weights, memory, low)
    high = hops.weighted - low[0]
    energies, squares = (
        before * 10.0 ** (gain_db / 10.0) * _ratios(left, total, len(before))
        for before, left, total in (
            (reading.curves.energies, high * means + low[1], hops.weighted),
            (reading.curves.squares, (HEAD_SHARE * high + low[2]) * means, HEAD_SHARE * high + low[2]),
        )
    )
    highest = np.maximum(np.maximum(a, b), np.maximum(c, d)) * 10.0 ** (gain_db / 20.0)
    sample, true = (float((_LEVELS[codes] * highest).max()) for codes in (hops.sample_peaks, hops.true_peaks))
    return Limited(nodes, other.lowest, energies, squares, sample, true, other.depth_db, other.share_ratio)


def _ratios(left: Floats, total: Floats, count: int) -> NDArray[np.float64]:
    """What is left of every full 10 ms; all of it where there is nothing."""
    left, total = (
        values[: count * HOPS_PER_ENERGY].astype(np.float64).reshape(count, HOPS_PER_ENERGY).sum(axis=1)
        for values in (left, total)
    )
    return np.divide(np.maximum(left, 0.0), total, out=np.ones(count), where=total > 0.0)
