"""What is heard of a signal for evening it: its loudness and how noise-like it is, along time."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ..files.blocks import Block
from ..measure.hop_energies import HopEnergies
from ..signals import Signal

Floats = NDArray[np.float64]

BLOCK_FRAMES = 1 << 16
FLATNESS_S, FLATNESS_APART_S = 0.032, 0.05
BAND_HZ = (100.0, 4_000.0)
"""Where voices have their harmonics."""

TINY = 1e-15


@dataclass(frozen=True)
class Heard:
    """energies: K-weighted mean square of each 10 ms, as loudness sums them; flatness: every 50 ms, from 0 (tones) to
    1, of the power spectrum between 100 Hz and 4 kHz.
    """

    energies: Floats
    flatness: Floats


def listen_to(signal: Signal) -> Heard:
    """One pass over a signal."""
    energies, flatness = HopEnergies(signal.shape), _Flatness(signal.shape.rate_hz)
    for block in signal.blocks(BLOCK_FRAMES):
        energies.feed(block)
        flatness.feed(block)
    return Heard(energies.values(), flatness.values())


class _Flatness:
    def __init__(self, rate_hz: int) -> None:
        self._frames, self._apart = max(16, round(FLATNESS_S * rate_hz)), max(1, round(FLATNESS_APART_S * rate_hz))
        bins_hz = np.fft.rfftfreq(self._frames, 1.0 / rate_hz)
        self._band = (bins_hz >= BAND_HZ[0]) & (bins_hz <= BAND_HZ[1])
        self._window = np.hanning(self._frames)
        self._held = np.zeros(0)
        self._found: list[Floats] = []

    def feed(self, block: Block) -> None:
        mean = sum(block.T[1:], start=block.T[0].astype(np.float64)) / block.shape[1]
        self._held = np.concatenate((self._held, mean))
        count = (len(self._held) - self._frames) // self._apart + 1
        if count > 0:
            windows = np.lib.stride_tricks.sliding_window_view(self._held, self._frames)[:: self._apart][:count]
            self._found.append(self._of(windows))
            self._held = self._held[count * self._apart :]

    def _of(self, windows: Floats) -> Floats:
        powers = np.abs(np.fft.rfft(windows * self._window)[:, self._band]) ** 2 + TINY
        flatness: Floats = np.exp(np.log(powers).mean(axis=1)) / powers.mean(axis=1)
        return flatness

    def values(self) -> Floats:
        return np.concatenate(self._found) if self._found else np.zeros(0)
