"""The long-term average spectrum and the cross-correlation of two channels, from windows spread over the file."""

import math

import numpy as np
from numpy.typing import NDArray

from ..kernels import Floats, vectorised

WINDOW_S = 0.2

SAME_AT_LAG, LIKE_ELSEWHERE, APART_FRAMES, FARTHEST_SHARE = 0.97, 0.8, 48, 0.3
"""A late copy: how much it correlates at its delay, at most elsewhere, where elsewhere begins, and the longest delay
as a share of a window: 50 ms at any rate from 44.1 kHz on. Common practice."""


def window_frames(sample_rate_hz: int) -> int:
    """The power of two next under WINDOW_S: bins of 5 to 10 Hz at any rate."""
    return 1 << int(WINDOW_S * sample_rate_hz).bit_length() - 1


class SpectrumMeter:
    """Fed with windows, then asked. Power is summed over channels."""

    def __init__(self, sample_rate_hz: int, channels: int) -> None:
        self._sample_rate_hz = sample_rate_hz
        self._pair = channels == 2
        self.frames = window_frames(sample_rate_hz)
        self._window = np.hanning(self.frames)
        self._power = np.zeros(self.frames // 2 + 1)
        self._windows = 0
        self._cross, self._energies = np.zeros(self.frames // 2 + 1, complex), np.zeros(channels)

    def feed(self, window: Floats) -> None:
        """Take `frames` × channels."""
        # 64 bits: numpy transforms two channels at once in them, but not in 32, which takes four times as long.
        samples = np.ascontiguousarray(window.T, np.float64)
        bins = np.fft.rfft(samples * self._window)
        add_powers(bins.view(np.float64), self._power, self._energies)
        if self._pair:
            self._cross += bins[1] * bins[0].conj()
        self._windows += 1

    def late_copy_s(self) -> float | None:
        """How much later the second channel says what the first says (less than 0: earlier), or None.

        From the cross-correlation of all windows: it must reach almost 1 at one delay and nowhere else, which tones
        alone never do. A delay of 0 is no delay.
        """
        if not self._pair or self._windows == 0 or self._energies.min() <= 0.0:
            return None
        correlation = np.fft.irfft(self._cross) * (self.frames / 2 / math.sqrt(float(self._energies.prod())))
        lags = np.arange(self.frames)
        lags[lags > self.frames // 2] -= self.frames
        correlation *= _overlap_made_up(lags, self.frames)
        best = int(np.argmax(np.abs(correlation)))
        elsewhere = np.abs(correlation)[np.abs(lags - lags[best]) > APART_FRAMES].max(initial=0.0)
        if lags[best] == 0 or abs(correlation[best]) < SAME_AT_LAG or elsewhere > LIKE_ELSEWHERE:
            return None
        return float(lags[best] / self._sample_rate_hz)

    def spectrum(self) -> NDArray[np.float32]:
        """Mean power of each bin from 0 to half the rate; 1.0 is a full-scale sine. Empty where the file is short."""
        if self._windows == 0:
            return np.empty(0, np.float32)
        sine_power = (float(self._window.sum()) / 2.0) ** 2
        mean: NDArray[np.float64] = self._power / self._windows / sine_power
        return mean.astype(np.float32)


@vectorised
def add_powers(bins: Floats, powers: Floats, energies: Floats) -> None:
    """Add the power of each bin to that of all channels, and of each channel to that of all bins.

    bins: channels × twice as many, real and imaginary part in turn.
    """
    for channel in range(len(bins)):
        parts, total = bins[channel], 0.0
        for at in range(len(powers)):
            power = parts[2 * at] * parts[2 * at] + parts[2 * at + 1] * parts[2 * at + 1]
            powers[at] += power
            total += power
        energies[channel] += total


def _overlap_made_up(lags: NDArray[np.int_], frames: int) -> NDArray[np.float64]:
    """What makes up for the windows' overlap at each lag; 0 where that is too little to tell."""
    share = np.abs(lags) / frames
    overlap = (1.0 - share) * (2.0 + np.cos(2.0 * np.pi * share)) / 3.0 + np.sin(2.0 * np.pi * share) / (2.0 * np.pi)
    return np.where(share <= FARTHEST_SHARE, 1.0 / np.maximum(overlap, 0.1), 0.0)


BANDS_PER_OCTAVE, LOWEST_BAND_HZ = 16, 20.0


def sixteenth_octaves(spectrum: NDArray[np.float32], sample_rate_hz: int) -> list[tuple[float, float]]:
    """Centre in Hz and level in dB of every sixteenth of an octave; 0 dB is a full-scale sine in it.

    Where a band is narrower than a bin it gets its share of it, so that a level falls smoothly to the lowest ones.
    """
    if len(spectrum) == 0:
        return []
    hz_per_bin = sample_rate_hz / 2 / (len(spectrum) - 1)
    count = int(BANDS_PER_OCTAVE * math.log2(sample_rate_hz / 2 / LOWEST_BAND_HZ))
    edges_hz = LOWEST_BAND_HZ * 2.0 ** (np.arange(count + 1) / BANDS_PER_OCTAVE)
    # A Hann window spreads a sine over bins whose powers add up to 1.5 times its own.
    below = np.concatenate(([0.0], np.cumsum(spectrum.astype(np.float64)))) / 1.5
    sums = np.interp(edges_hz / hz_per_bin + 0.5, np.arange(len(below)), below)
    powers = np.maximum(np.diff(sums), 1e-16)
    centres_hz = np.sqrt(edges_hz[1:] * edges_hz[:-1])
    return [(float(hz), float(10.0 * math.log10(power))) for hz, power in zip(centres_hz, powers, strict=True)]


def steep_edge_hz(spectrum: NDArray[np.float32], sample_rate_hz: int) -> float | None:
    """Where a spectrum ends as steeply as only a filter makes it: the edge in Hz, or None.

    Within 600 Hz it must fall by 30 dB and stay down to half the rate. Edges in the top tenth of the band
    belong to the converter and do not count. Common practice: no standard says what an encoder leaves.
    """
    if len(spectrum) == 0:
        return None
    hz_per_bin = sample_rate_hz / 2 / (len(spectrum) - 1)
    near, far = (max(1, round(hz / hz_per_bin)) for hz in (EDGE_HALF_HZ, EDGE_REACH_HZ))
    level_db = 10.0 * np.log10(np.maximum(spectrum.astype(np.float64), 1e-16))
    lowest, highest = round(EDGE_LOWEST_HZ / hz_per_bin), round(EDGE_HIGHEST_RATIO * (len(spectrum) - 1))
    edges = np.arange(max(lowest, far), highest - near)
    if len(edges) == 0:
        return None
    sums = np.concatenate(([0.0], np.cumsum(level_db)))
    below = (sums[edges - near] - sums[edges - far]) / (far - near)
    highest_above = np.maximum.accumulate(level_db[::-1])[::-1]
    falls = below - highest_above[edges + near]
    best = int(np.argmax(falls))
    if falls[best] < EDGE_FALL_DB or below[best] < EDGE_SOUNDING_DB:
        return None
    return float(edges[best] * hz_per_bin)


EDGE_HALF_HZ, EDGE_REACH_HZ = 300.0, 1500.0
EDGE_LOWEST_HZ, EDGE_HIGHEST_RATIO = 7_000.0, 0.9
EDGE_FALL_DB, EDGE_SOUNDING_DB = 30.0, -105.0
