"""True peak: the largest value of the band-limited waveform between the samples (ITU-R BS.1770-5, Annex 2).

The standard asks for four interpolated points per sample with a 48-tap filter, which can read up to
0.7 dB low near the top of the band. Here sixteen points per sample are computed with a longer filter,
flat to 0.46 of the rate, but only where they could matter. Three facts say where:

- No interpolated value can pass the largest sample near it times the largest L1 norm of the filter's
  phases. A hop where even that is under the peak found so far is passed over.
- Written by second differences, an interpolated value is what lies on the straight line between two samples, plus
  second differences times a filter of its own with a far smaller norm. So it cannot pass the largest sample by more
  than that norm times the largest second difference near it: little, but in the highest octave.
- Around its largest value V, at time t0, a waveform without content over half the rate stays above
  V · cos(pi · (t - t0) · rate) (Duffin and Schaeffer, 1938). So if V lies between two points at a distance of d
  samples, their mean is at least V · cos(pi · d / 2). An interval whose ends are lower than that for the
  peak found so far is not halved any further.
"""

import math
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ..files.codes import Coding, read
from ..kernels import Floats, Integers, kernel, vectorised
from ..units import db_from_ratio, ratio_from_db
from ..values import Place
from .envelope import HOPS_PER_SECOND

PHASES = 16
TAPS = 64
KAISER_BETA = 7.86
"""Stops at -80 dB."""

CLOSE_HOPS = 20
HALF_TAPS = TAPS // 2
HALF_PHASE = PHASES // 2
QUARTER_PHASE = PHASES // 4
BAND_MARGIN = 1.15
"""The filter lets a little pass over half the rate: the waveform may bend so much more sharply."""


def _least_mean(distance: float) -> float:
    """Least mean of two points, as a share of the peak between them."""
    return math.cos(math.pi * BAND_MARGIN * distance / 2)


_MEAN_AT_HALF, _MEAN_AT_QUARTER, _MEAN_AT_EIGHTH = (_least_mean(d) for d in (1 / 2, 1 / 4, 1 / 8))


def interpolator() -> NDArray[np.float64]:
    """Windowed-sinc phases, shape PHASES × TAPS; phase 0 is the sample itself.

    Row p interpolates at p / PHASES of the way from tap HALF_TAPS - 1 to the next; each sums to 1.
    """
    offset = np.arange(TAPS) - (HALF_TAPS - 1)
    time = offset[None, :] - np.arange(PHASES)[:, None] / PHASES
    inside = np.sqrt(np.maximum(0.0, 1.0 - (time / HALF_TAPS) ** 2))
    phases = np.sinc(time) * np.i0(KAISER_BETA * inside) / np.i0(KAISER_BETA)
    normalised: NDArray[np.float64] = phases / phases.sum(axis=1, keepdims=True)
    return normalised


_PHASES = interpolator()
_HALF = _PHASES[HALF_PHASE].astype(np.float32)
_QUARTERS = _PHASES[::QUARTER_PHASE].astype(np.float32)
_L1_NORM = float(np.abs(_PHASES).sum(axis=1).max())


def _second_difference_bound() -> tuple[float, float]:
    """Factors (a, b) of the bound a · largest sample + b · largest second difference, for every phase.

    Twice summed by parts: the rest of a filter after its straight line is a filter for second differences and, where
    its first moment is not quite the line's, a share of one first difference, which two samples bound.
    """
    line = np.zeros_like(_PHASES)
    line[:, HALF_TAPS] = np.arange(PHASES) / PHASES
    line[:, HALF_TAPS - 1] = 1.0 - line[:, HALF_TAPS]
    once = np.cumsum(_PHASES - line, axis=1)
    twice = np.cumsum(once, axis=1)[:, : TAPS - 1]
    return 1.0 + 2.0 * float(np.abs(twice[:, -1]).max()), float(np.abs(twice).sum(axis=1).max())


_OF_SAMPLE, _OF_SECOND_DIFFERENCE = _second_difference_bound()


GROUP_HOPS = 8
"""Hops in a row that may hold a peak are taken together, at most so many: their filters share samples."""

TILE = 64
KEPT_DB = 24.0
"""How far under the highest peak those of single hops are searched: no limiter goes deeper."""


class TruePeakMeter:
    """Fed with codes and the largest magnitude of every hop, then asked."""

    def __init__(self, coding: Coding, channels: int, longest_hop_frames: int) -> None:
        self._scale = coding.scale
        self._find = find_hop_peaks.using(read=coding.reads)
        self._peaks = np.zeros(channels)
        self._over_hops: set[int] = set()
        self._search = search_peak.using(read=coding.reads)
        tiles_frames = -(-(longest_hop_frames + 2) // TILE) * TILE
        reached_frames = max(tiles_frames, GROUP_HOPS * longest_hop_frames) + TAPS
        self._scratch = (np.zeros(reached_frames), *(np.zeros(reached_frames, np.float32) for _ in range(2)))
        self._points = np.zeros((4, tiles_frames), np.float32)

    def feed(
        self, codes: Integers, edges: Integers, magnitudes: Floats, first_hop: int, last_hop: int, done_hops: int
    ) -> None:
        """Search some hops; the one of number 0 is the programme's of number `done_hops`.

        codes: frames × channels, silent before their start and after their end; edges: borders of all hops in
        frames; magnitudes: channels × hops, the largest code of each, known for all within half a filter of those.
        """
        full_scale = 1.0 / self._scale
        for channel, largest in enumerate(magnitudes):
            peak = max(self._peaks[channel], float(largest[first_hop:last_hop].max(initial=0.0)))
            if peak == 0.0:
                continue
            reached = _largest_in_reach(largest, edges, first_hop, last_hop)
            hops = np.flatnonzero(reached > min(peak, full_scale) / _L1_NORM) + first_hop
            sums, overs = np.zeros(len(hops)), np.zeros(len(hops))
            arrays = (codes, edges, hops, sums, overs, _HALF, _PHASES, *self._scratch)
            self._peaks[channel] = self._search(*arrays, channel, peak, full_scale)
            self._over_hops.update((hops[overs > 0.0] + done_hops).tolist())

    def hop_peaks(
        self, codes: Integers, edges: Integers, magnitudes: Floats, first_hop: int, last_hop: int
    ) -> NDArray[np.float64]:
        """The true peak of each of some hops that were fed, the largest of any channel, ±1.0 at full scale.

        Where it is more than KEPT_DB under the highest so far, it may be that of the samples.
        """
        found = np.zeros(last_hop - first_hop)
        reach_hops = 1 + HALF_TAPS // max(1, int(np.diff(edges).min()))
        hops = np.array([first_hop, last_hop, reach_hops])
        floor = float(self._peaks.max()) * ratio_from_db(-KEPT_DB)
        single = self._scratch[1]
        for channel, largest in enumerate(magnitudes):
            arrays = (codes, edges, largest, hops, found, _QUARTERS, single, self._points)
            self._find(*arrays, channel, floor, _L1_NORM)
        return found * self._scale

    def over_places_s(self) -> tuple[Place, ...]:
        """Where the waveform passes full scale, in seconds; places that are close are one."""
        hops = np.array(sorted(self._over_hops))
        if len(hops) == 0:
            return ()
        breaks = np.flatnonzero(np.diff(hops) > CLOSE_HOPS)
        starts, ends = np.concatenate(([0], breaks + 1)), np.concatenate((breaks, [len(hops) - 1]))
        edges_s = [
            (hops[a] / HOPS_PER_SECOND, (hops[b] + 1) / HOPS_PER_SECOND) for a, b in zip(starts, ends, strict=True)
        ]
        return tuple((max(0.0, float(start)), float(end)) for start, end in edges_s)

    def peaks_dbtp(self) -> tuple[float, ...]:
        """True peak of each channel in dBTP."""
        return tuple(db_from_ratio(float(peak) * self._scale) for peak in self._peaks)


def _largest_in_reach(largest: Floats, edges: Integers, first_hop: int, last_hop: int) -> Floats:
    """The largest magnitude of all that the filter reaches over from each of some hops."""
    reach_hops = 1 + HALF_TAPS // max(1, int(np.diff(edges).min()))
    reached = largest[first_hop:last_hop].copy()
    for reach in range(1, reach_hops + 1):
        before = largest[max(0, first_hop - reach) : last_hop - reach]
        after = largest[first_hop + reach : last_hop + reach]
        late, early = reached[len(reached) - len(before) :], reached[: len(after)]
        np.maximum(late, before, out=late)
        np.maximum(early, after, out=early)
    return reached


@kernel
def search_peak(
    codes: Integers,
    edges: Integers,
    hops: Integers,
    sums: Floats,
    overs: Floats,
    half_filter: Floats,
    phases: Floats,
    signal: Floats,
    single: Floats,
    halves: Floats,
    channel: int,
    peak: float,
    full_scale: float,
) -> float:
    """Largest magnitude between the samples of some hops of a channel, or `peak` where that is larger.

    hops: numbers of those that may hold a value over it, in their order; sums, overs: one for each, zeros: scratch,
    and set to 1 where the waveform passes full scale; half_filter: the phase half-way between samples; phases: all of
    them; signal, single, halves: scratch, a group of hops and a filter long; peak: not under the largest sample of
    these hops.
    """
    # Twice over the hops: the half-sample points raise the peak, and spare the closer look most of its work.
    first = 0
    while first < len(hops):
        last = first + 1
        while last < len(hops) and last - first < GROUP_HOPS and hops[last] == hops[last - 1] + 1:
            last += 1
        start = edges[hops[first]]
        group = single[: edges[hops[last - 1] + 1] - start + TAPS - 1]
        _take(codes, start - (HALF_TAPS - 1), channel, group)
        if _bound(group) > min(peak, full_scale):
            for at in range(first, last):
                runs = edges[hops[at] + 1] - edges[hops[at]]
                part = group[edges[hops[at]] - start :][: runs + TAPS - 1]
                if _bound(part) > min(peak, full_scale):
                    _filter_halves(part, half_filter, halves[:runs])
                    highest, sums[at] = _highest(part[HALF_TAPS - 1 :], halves[:runs])
                    peak = max(peak, highest)
        first = last
    for at in range(len(hops)):
        found = min(peak, full_scale)
        if sums[at] < 2.0 * _MEAN_AT_HALF * found:
            continue
        hop = hops[at]
        runs = edges[hop + 1] - edges[hop]
        _take(codes, edges[hop] - (HALF_TAPS - 1), channel, signal[: runs + TAPS - 1])
        _take(codes, edges[hop] - (HALF_TAPS - 1), channel, single[: runs + TAPS - 1])
        _filter_halves(single, half_filter, halves[:runs])
        for run in range(runs):
            half = abs(float(halves[run]))
            early, late = abs(signal[run + HALF_TAPS - 1]), abs(signal[run + HALF_TAPS])
            found = max(found, half)
            if early + half >= 2.0 * _MEAN_AT_HALF * found:
                found = _halve(signal, phases, run, 0, early, half, found)
            if half + late >= 2.0 * _MEAN_AT_HALF * found:
                found = _halve(signal, phases, run, HALF_PHASE, half, late, found)
        peak = max(peak, found)
        if found > full_scale:
            overs[at] = 1.0
    return peak


@kernel
def find_hop_peaks(
    codes: Integers,
    edges: Integers,
    largest: Floats,
    hops: Integers,
    found: Floats,
    quarters: Floats,
    single: Floats,
    points: Floats,
    channel: int,
    floor: float,
    l1_norm: float,
) -> None:
    """Raise `found`, one value for each hop, to the true peak that a channel has in it.

    Four points per sample, and a sine through the highest: exact to 0.01 dB up to 0.45 of the rate. quarters:
    4 × TAPS; single, points: scratch, a hop and a filter long, and 4 × a hop; the others as in `search_peak`.
    """
    first_hop, last_hop, reach = hops[0], hops[1], hops[2]
    for hop in range(first_hop, last_hop):
        start = max(found[hop - first_hop], largest[hop])
        found[hop - first_hop] = start
        if not _may_pass(largest, hop, reach, l1_norm, max(start, floor)):
            continue
        runs = edges[hop + 1] - edges[hop]
        _take(codes, edges[hop] - HALF_TAPS, channel, single[: runs + TAPS + 1])
        found[hop - first_hop] = max(start, _highest_of_quarters(single, quarters, points, runs + 2))


@vectorised
def _highest_of_quarters(samples: Floats, quarters: Floats, points: Floats, frames: int) -> float:
    """Largest magnitude of a hop on a grid of four points per sample, and of the waves through them.

    samples: from half a filter and one sample before the hop to as much after its end, and a tile; points: scratch,
    4 × whole tiles; frames: of the hop, and two more.
    """
    for start in range(0, frames, TILE):
        part = samples[start : start + TILE + TAPS]
        _filter_tile(part, quarters, points[1, start:], points[2, start:], points[3, start:])
    first, second, third, fourth = samples[HALF_TAPS - 1 :], points[1], points[2], points[3]
    tops, highest = points[0], np.float32(0.0)
    for frame in range(1, frames - 1):
        a, b, c, d = abs(first[frame]), abs(second[frame]), abs(third[frame]), abs(fourth[frame])
        a = a if a > b else b
        c = c if c > d else d
        tops[frame] = a if a > c else c
        highest = tops[frame] if tops[frame] > highest else highest
    # Between four points the wave rises by 8 % at most.
    close, found = np.float32(0.92) * highest, highest
    for frame in range(1, frames - 1):
        if tops[frame] < close:
            continue
        a, b, c, d = abs(first[frame]), abs(second[frame]), abs(third[frame]), abs(fourth[frame])
        before, after = abs(fourth[frame - 1]), abs(first[frame + 1])
        found = max(found, _summit(before, a, b), _summit(a, b, c), _summit(b, c, d), _summit(c, d, after))
    return float(found)


@vectorised
def _filter_tile(samples: Floats, quarters: Floats, first: Floats, second: Floats, third: Floats) -> None:
    """TILE results of three phases. A fixed number of them lets the processor take many at once."""
    for frame in range(TILE):
        first[frame] = np.float32(0.0)
        second[frame] = np.float32(0.0)
        third[frame] = np.float32(0.0)
    for tap in range(0, TAPS, 4):
        a, b, c, d = quarters[1, tap], quarters[1, tap + 1], quarters[1, tap + 2], quarters[1, tap + 3]
        e, f, g, h = quarters[2, tap], quarters[2, tap + 1], quarters[2, tap + 2], quarters[2, tap + 3]
        i, j, k, m = quarters[3, tap], quarters[3, tap + 1], quarters[3, tap + 2], quarters[3, tap + 3]
        part = samples[tap:]
        for frame in range(TILE):
            w, x, y, z = part[frame], part[frame + 1], part[frame + 2], part[frame + 3]
            first[frame] += (a * w + b * x) + (c * y + d * z)
            second[frame] += (e * w + f * x) + (g * y + h * z)
            third[frame] += (i * w + j * x) + (k * y + m * z)


@vectorised
def _summit(before: Any, here: Any, after: Any) -> Any:
    """Top of the wave through three magnitudes where the middle one is the largest, else that one.

    Through three neighbouring points goes one sine: with c its cosine over their distance, before + after = 2 c here,
    and its amplitude follows. Where it is so slow that little is between the points, a parabola is as good.
    """
    bend, slope = np.float32(2.0) * here - before - after, after - before
    if before > here or after > here or bend <= np.float32(0.0):
        return here
    if bend < np.float32(0.02) * here:
        return here + slope * slope / (np.float32(8.0) * bend)
    cosine = np.float32(0.5) * (before + after) / here
    sine_squared = np.float32(1.0) - cosine * cosine
    return np.sqrt(here * here + np.float32(0.25) * slope * slope / sine_squared)


@kernel
def _may_pass(largest: Floats, hop: int, reach: int, l1_norm: float, peak: float) -> bool:
    """Whether a hop, with all that the filter reaches over, can hold a value over the peak."""
    for near in range(max(0, hop - reach), min(len(largest), hop + reach + 1)):
        if largest[near] * l1_norm > peak:
            return True
    return False


@kernel
def _take(codes: Integers, first: int, channel: int, samples: Floats) -> None:
    """Samples of a channel from a frame on; 0 before the start and after the end."""
    if 0 <= first <= len(codes) - len(samples):
        part = codes[first : first + len(samples)]
        for at in range(len(samples)):
            samples[at] = read(part, at, channel)
        return
    for at in range(len(samples)):
        samples[at] = read(codes, first + at, channel) if 0 <= first + at < len(codes) else 0


@vectorised
def _bound(samples: Floats) -> float:
    """What no interpolated value between these samples can pass."""
    largest, sharpest = abs(samples[0]), np.float32(0.0)
    for at in range(1, len(samples) - 1):
        bend = abs(samples[at - 1] - np.float32(2.0) * samples[at] + samples[at + 1])
        largest = abs(samples[at]) if abs(samples[at]) > largest else largest
        sharpest = bend if bend > sharpest else sharpest
    largest = max(largest, abs(samples[-1]))
    return float(largest) * _OF_SAMPLE + float(sharpest) * _OF_SECOND_DIFFERENCE


@vectorised
def _filter_halves(samples: Floats, half_filter: Floats, halves: Floats) -> None:
    """Half-sample values of a hop. The filter is symmetric: each weight serves two samples.

    The inner loop runs over neighbouring results, which the processor computes side by side.
    """
    runs = len(halves)
    for run in range(runs):
        halves[run] = 0.0
    for tap in range(0, HALF_TAPS, 2):
        mirrored = TAPS - 1 - tap
        one, two = half_filter[tap], half_filter[tap + 1]
        early, late = samples[tap : tap + runs + 1], samples[mirrored - 1 : mirrored + runs]
        for run in range(runs):
            halves[run] += one * (early[run] + late[run + 1]) + two * (early[run + 1] + late[run])


@vectorised
def _highest(samples: Floats, halves: Floats) -> tuple[float, float]:
    """Largest half-sample magnitude, and largest sum of one with the sample before or after it."""
    highest, sum_of_two = np.float32(0.0), np.float32(0.0)
    for run in range(len(halves)):
        half = abs(halves[run])
        ends = max(abs(samples[run]), abs(samples[run + 1]))
        highest = half if half > highest else highest
        sum_of_two = half + ends if half + ends > sum_of_two else sum_of_two
    return float(highest), float(sum_of_two)


@kernel
def _halve(signal: Floats, phases: Floats, run: int, phase: int, start: float, end: float, peak: float) -> float:
    """Search the half sample that begins at a phase and whose ends have these magnitudes."""
    middle = _magnitude(signal, phases, run, phase + QUARTER_PHASE)
    peak = max(peak, middle)
    if start + middle >= 2.0 * _MEAN_AT_QUARTER * peak:
        peak = _search_quarter(signal, phases, run, phase, start, middle, peak)
    if middle + end >= 2.0 * _MEAN_AT_QUARTER * peak:
        peak = _search_quarter(signal, phases, run, phase + QUARTER_PHASE, middle, end, peak)
    return peak


@kernel
def _search_quarter(
    signal: Floats, phases: Floats, run: int, phase: int, start: float, end: float, peak: float
) -> float:
    """Search the quarter sample that begins at a phase, down to the sixteenth."""
    middle = _magnitude(signal, phases, run, phase + 2)
    peak = max(peak, middle)
    if start + middle >= 2.0 * _MEAN_AT_EIGHTH * peak:
        peak = max(peak, _magnitude(signal, phases, run, phase + 1))
    if middle + end >= 2.0 * _MEAN_AT_EIGHTH * peak:
        peak = max(peak, _magnitude(signal, phases, run, phase + 3))
    return peak


@kernel
def _magnitude(signal: Floats, phases: Floats, run: int, phase: int) -> float:
    """Absolute interpolated value of one run of samples at one phase; four sums that do not wait for each other."""
    weights, samples = phases[phase], signal[run : run + phases.shape[1]]
    a, b, c, d = 0.0, 0.0, 0.0, 0.0
    for tap in range(0, len(weights), 4):
        a += weights[tap] * samples[tap]
        b += weights[tap + 1] * samples[tap + 1]
        c += weights[tap + 2] * samples[tap + 2]
        d += weights[tap + 3] * samples[tap + 3]
    return abs((a + b) + (c + d))
