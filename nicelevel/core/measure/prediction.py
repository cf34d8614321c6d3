"""How far samples follow from those before them, told from pieces: what packing without loss will make of a file.

FLAC and ALAC write what a linear predictor does not foresee. Which predictor that will be hangs on gain, word length
and dither; all of them follow from the autocorrelation of a piece (Makhoul, Proc. IEEE 63, 1975).
"""

import numpy as np
from numpy.typing import NDArray

from ..kernels import Floats

LAGS = 9
"""From 0 to the longest predictor that the encoders take, of eight samples."""

MOST_FRAMES = 4096
"""Of one piece: as long as the blocks of FLAC and ALAC."""


class PredictionMeter:
    """Fed with pieces, then asked."""

    def __init__(self, channels: int) -> None:
        self._channels = channels
        self._window = np.zeros(0)
        self._found: list[NDArray[np.float64]] = []

    def feed(self, piece: Floats) -> None:
        """Take frames × channels, of which the MOST_FRAMES in the middle count."""
        first = max(0, len(piece) - MOST_FRAMES) // 2
        piece = piece[first : first + MOST_FRAMES]
        if len(self._window) != len(piece):
            self._window = _window(len(piece))
        sides = np.ascontiguousarray(piece.T, np.float64) * self._window
        rows = [_correlations(side, side) for side in sides]
        if self._channels == 2:
            rows.append((_correlations(*sides) + _correlations(*sides[::-1])) / 2.0)
        self._found.append(np.array(rows))

    def autocorrelations(self) -> NDArray[np.float64]:
        """Pieces × channels × LAGS, per sample, 1.0 at full scale; of two channels a third row: of both together."""
        rows = self._channels + (self._channels == 2)
        return np.array(self._found) if self._found else np.empty((0, rows, LAGS))


def _window(frames: int) -> NDArray[np.float64]:
    """Hann's window, whose squares add up to 1."""
    window = np.sin(np.pi * (np.arange(frames) + 0.5) / frames) ** 2
    window /= np.sqrt(np.sum(window**2))
    return window


def _correlations(one: NDArray[np.float64], other: NDArray[np.float64]) -> NDArray[np.float64]:
    frames = len(one)
    return np.array([one[: frames - lag] @ other[lag:] if lag < frames else 0.0 for lag in range(LAGS)])
