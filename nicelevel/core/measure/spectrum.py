"""The long-term average spectrum, from one window of every second."""

import numpy as np
from numpy.typing import NDArray

from ..kernels import Floats

WINDOW_S = 0.2


def window_frames(sample_rate_hz: int) -> int:
    """The power of two next under WINDOW_S: bins of 5 to 10 Hz at any rate."""
    return 1 << int(WINDOW_S * sample_rate_hz).bit_length() - 1


class SpectrumMeter:
    """Fed with one window of every second, then asked. Power is summed over channels."""

    def __init__(self, sample_rate_hz: int) -> None:
        self.frames = window_frames(sample_rate_hz)
        self._window = np.hanning(self.frames).astype(np.float32)
        self._power = np.zeros(self.frames // 2 + 1)
        self._windows = 0

    def feed(self, window: Floats) -> None:
        """Take `frames` × channels."""
        samples = np.ascontiguousarray(window.T, np.float32)
        bins = np.fft.rfft(samples * self._window)
        self._power += (bins.real**2 + bins.imag**2).sum(axis=0)
        self._windows += 1

    def spectrum(self) -> NDArray[np.float32]:
        """Mean power of each bin from 0 to half the rate; 1.0 is a full-scale sine. Empty where the file is short."""
        if self._windows == 0:
            return np.empty(0, np.float32)
        sine_power = (float(self._window.sum()) / 2.0) ** 2
        mean: NDArray[np.float64] = self._power / self._windows / sine_power
        return mean.astype(np.float32)


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
