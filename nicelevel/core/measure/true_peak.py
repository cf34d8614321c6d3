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

import numpy as np
from numpy.typing import NDArray

from ..files.codes import Coding, take_channel
from ..kernels import Floats, Integers, kernel, vectorised
from ..units import db_from_ratio
from ..values import Place
from .envelope import ENVELOPE_HOPS_PER_SECOND

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
    return _windowed_sinc(offset[None, :] - np.arange(PHASES)[:, None] / PHASES, HALF_TAPS)


def halfway_filter(taps: int) -> NDArray[np.float64]:
    """Windowed sinc for the point half-way between two samples, so many taps long; they sum to 1."""
    return _windowed_sinc(np.arange(taps) - (taps - 1) / 2, taps // 2)


def _windowed_sinc(time: Floats, half_taps: int) -> NDArray[np.float64]:
    """Weights at some times, in samples, from the point that they are for; those of a row sum to 1."""
    inside = np.sqrt(np.maximum(0.0, 1.0 - (time / half_taps) ** 2))
    weights = np.sinc(time) * np.i0(KAISER_BETA * inside)
    normalised: NDArray[np.float64] = weights / weights.sum(axis=-1, keepdims=True)
    return normalised


_PHASES = interpolator()
HALF_WAY = _PHASES[HALF_PHASE].astype(np.float32)
L1_NORM = float(np.abs(_PHASES).sum(axis=1).max())


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


class TruePeakMeter:
    """Fed with codes and the largest magnitude of every hop, then asked."""

    def __init__(self, coding: Coding, channels: int, longest_hop_frames: int) -> None:
        self._scale = coding.scale
        self._peaks = np.zeros(channels)
        self._over_hops: set[int] = set()
        self._search = search_peak.using(read=coding.reads)
        reached_frames = GROUP_HOPS * longest_hop_frames + TAPS
        self._scratch = (np.zeros(reached_frames), *(np.zeros(reached_frames, np.float32) for _ in range(2)))

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
            hops = np.flatnonzero(reached > min(peak, full_scale) / L1_NORM) + first_hop
            sums, overs = np.zeros(len(hops)), np.zeros(len(hops))
            arrays = (codes, edges, hops, sums, overs, HALF_WAY, _PHASES, *self._scratch)
            self._peaks[channel] = self._search(*arrays, channel, peak, full_scale)
            self._over_hops.update((hops[overs > 0.0] + done_hops).tolist())

    @property
    def highest(self) -> float:
        """The highest true peak so far, in units of a code."""
        return float(self._peaks.max())

    def over_places_s(self) -> tuple[Place, ...]:
        """Where the waveform passes full scale, in seconds; places that are close are one."""
        hops = np.array(sorted(self._over_hops))
        if len(hops) == 0:
            return ()
        breaks = np.flatnonzero(np.diff(hops) > CLOSE_HOPS)
        starts, ends = np.concatenate(([0], breaks + 1)), np.concatenate((breaks, [len(hops) - 1]))
        edges_s = [
            (hops[a] / ENVELOPE_HOPS_PER_SECOND, (hops[b] + 1) / ENVELOPE_HOPS_PER_SECOND)
            for a, b in zip(starts, ends, strict=True)
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
        take_channel(codes, start - (HALF_TAPS - 1), channel, group)
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
        take_channel(codes, edges[hop] - (HALF_TAPS - 1), channel, signal[: runs + TAPS - 1])
        take_channel(codes, edges[hop] - (HALF_TAPS - 1), channel, single[: runs + TAPS - 1])
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
