"""True peak: the largest value of the band-limited waveform between the samples (ITU-R BS.1770-5, Annex 2).

The standard asks for four interpolated points per sample with a 48-tap filter, which can read up to
0.7 dB low near the top of the band. Here sixteen points per sample are computed with a longer filter,
flat to 0.46 of the rate, but only where they could matter. Two facts say where:

- No interpolated value can pass the largest sample near it times the largest L1 norm of the filter's
  phases. A stretch where even that is under the peak found so far is passed over.
- Around its largest value V, at time t0, a waveform without content over half the rate stays above
  V · cos(pi · (t - t0) · rate) (Duffin and Schaeffer, 1938). So if V lies between two points at a distance of d
  samples, their mean is at least V · cos(pi · d / 2). An interval whose ends are lower than that for the
  peak found so far is not halved any further.
"""

import math

import numpy as np
from numpy.typing import NDArray

from ..kernels import Floats, kernel, vectorised
from ..units import db_from_ratio

PHASES = 16
TAPS = 64
KAISER_BETA = 7.86
"""Stops at -80 dB."""

STRETCH_FRAMES = TAPS
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
_L1_NORM = float(np.abs(_PHASES).sum(axis=1).max())


class TruePeakMeter:
    """Fed with planes of channels × frames, then asked. Holds the last 63 frames between them."""

    def __init__(self, channels: int) -> None:
        self._peaks = np.zeros(channels)
        self._history: Floats = np.zeros((channels, TAPS - 1), np.float32)

    def feed(self, planes: Floats) -> None:
        """Take the next frames."""
        joined = np.concatenate((self._history.astype(planes.dtype), planes), axis=1)
        for channel, signal in enumerate(joined):
            single = signal.astype(np.float32, copy=False)
            halves = np.zeros(len(signal) - TAPS + 1, np.float32)
            largest = stretch_peaks(single, np.zeros(len(single) // STRETCH_FRAMES + 2, np.float32))
            peak = max(self._peaks[channel], float(np.abs(signal).max()) if largest.any() else 0.0)
            self._peaks[channel] = search_peak(signal, single, halves, largest, peak, _L1_NORM, _HALF, _PHASES)
        self._history = joined[:, joined.shape[1] - (TAPS - 1) :].copy()

    def peaks_dbtp(self) -> tuple[float, ...]:
        """True peak of each channel in dBTP, the file taken as silent before its start and after its end."""
        self.feed(np.zeros((len(self._peaks), TAPS - 1), self._history.dtype))
        return tuple(db_from_ratio(float(peak)) for peak in self._peaks)


@vectorised
def stretch_peaks(single: Floats, largest: Floats) -> Floats:
    """Largest absolute sample of each stretch; the room that is left over stays 0."""
    for stretch in range((len(single) + STRETCH_FRAMES - 1) // STRETCH_FRAMES):
        part = single[stretch * STRETCH_FRAMES : (stretch + 1) * STRETCH_FRAMES]
        highest = np.float32(0.0)
        for frame in range(len(part)):
            x = abs(part[frame])
            highest = x if x > highest else highest
        largest[stretch] = highest
    return largest


@kernel
def search_peak(
    signal: Floats,
    single: Floats,
    halves: Floats,
    largest: Floats,
    peak: float,
    l1_norm: float,
    half_filter: Floats,
    phases: Floats,
) -> float:
    """Largest absolute interpolated value of a signal, or `peak` where that is larger.

    signal: at least TAPS long; single: the same in float32; halves: zeros, one for each run of TAPS samples;
    largest: that of each stretch; peak: not under the largest sample;
    half_filter: the phase half-way between samples, float32; phases: all of them, PHASES × TAPS.
    """
    taps, runs = len(half_filter), len(halves)
    before = taps // 2 - 1
    if peak == 0.0:
        return peak
    # Twice over the stretches: the half-sample points raise the peak, and spare the closer look most of its work.
    for first in range(0, runs, STRETCH_FRAMES):
        if _may_pass(largest, first, l1_norm, peak):
            last = min(first + STRETCH_FRAMES, runs)
            _filter_halves(single, half_filter, halves, first, last)
            for run in range(first, last):
                peak = max(peak, abs(float(halves[run])))
    for first in range(0, runs, STRETCH_FRAMES):
        if not _may_pass(largest, first, l1_norm, peak):
            continue
        for run in range(first, min(first + STRETCH_FRAMES, runs)):
            early, half, late = abs(signal[run + before]), abs(float(halves[run])), abs(signal[run + before + 1])
            if early + half >= 2.0 * _MEAN_AT_HALF * peak:
                peak = _halve(signal, phases, run, 0, early, half, peak)
            if half + late >= 2.0 * _MEAN_AT_HALF * peak:
                peak = _halve(signal, phases, run, HALF_PHASE, half, late, peak)
    return peak


@kernel
def _may_pass(largest: Floats, first: int, l1_norm: float, peak: float) -> bool:
    """Whether a stretch can hold a value over the peak; the runs that begin in it reach to the end of the next."""
    stretch = first // STRETCH_FRAMES
    return bool(max(largest[stretch], largest[stretch + 1]) * l1_norm > peak)


@kernel
def _filter_halves(single: Floats, half_filter: Floats, halves: Floats, first: int, last: int) -> None:
    """Half-sample values of a stretch. The filter is symmetric: each weight serves two samples.

    The inner loop runs over neighbouring results, which the processor computes side by side.
    """
    taps = len(half_filter)
    results = halves[first:last]
    for tap in range(taps // 2):
        weight = half_filter[tap]
        mirrored = taps - 1 - tap
        early, late = single[first + tap : last + tap], single[first + mirrored : last + mirrored]
        for run in range(len(results)):
            results[run] += weight * (early[run] + late[run])


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
