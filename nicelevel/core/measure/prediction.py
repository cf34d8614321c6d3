"""How far samples follow from those before them, told from pieces: what packing without loss will make of a file.

FLAC and ALAC write what a linear predictor does not foresee. Which predictor that will be hangs on gain, word length
and dither; all of them follow from the autocorrelation of a piece (Makhoul, Proc. IEEE 63, 1975).
"""

import numpy as np
from numpy.typing import NDArray

from ..kernels import Floats, kernel, vectorised

LAGS = 9
"""From 0 to the longest predictor that the encoders take, of eight samples."""

MOST_FRAMES = 4096
"""Of one piece: as long as the blocks of FLAC and ALAC."""


class PredictionMeter:
    """Fed with pieces, then asked."""

    def __init__(self, channels: int) -> None:
        self._channels, self._rows = channels, channels + (channels == 2)
        self._window = np.zeros(0)
        self._found: list[NDArray[np.float64]] = []

    def feed(self, piece: Floats) -> None:
        """Take frames × channels, of which the MOST_FRAMES in the middle count."""
        first = max(0, len(piece) - MOST_FRAMES) // 2
        piece = piece[first : first + MOST_FRAMES]
        if len(self._window) != len(piece):
            self._window = _window(len(piece))
        sides = np.zeros((self._channels, len(piece) + LAGS))
        np.multiply(piece.T, self._window, out=sides[:, : len(piece)])
        found = np.zeros((self._rows, LAGS))
        correlate(sides, found)
        self._found.append(found)

    def autocorrelations(self) -> NDArray[np.float64]:
        """Pieces × channels × LAGS, per sample, 1.0 at full scale; of two channels a third row: of both together."""
        return np.array(self._found) if self._found else np.empty((0, self._rows, LAGS))


def _window(frames: int) -> NDArray[np.float64]:
    """Hann's window, whose squares add up to 1."""
    window = np.sin(np.pi * (np.arange(frames) + 0.5) / frames) ** 2
    window /= np.sqrt(np.sum(window**2))
    return window


@kernel
def correlate(sides: Floats, found: Floats) -> None:
    """The rows of `autocorrelations`, of channels that are silent for LAGS samples at their end."""
    for channel in range(len(sides)):
        add_products(sides[channel], sides[channel], 1.0, found[channel])
    if len(found) > len(sides):
        add_products(sides[0], sides[1], 0.5, found[2])
        add_products(sides[1], sides[0], 0.5, found[2])


@vectorised
def add_products(one: Floats, other: Floats, weight: float, found: Floats) -> None:
    """Add sums of products of each sample and the one so many later in the other, from 0 to LAGS - 1, all in one go:
    each sample is then fetched once."""
    a = b = c = d = e = f = g = h = i = 0.0
    for at in range(len(one) - LAGS):
        x = one[at]
        a += x * other[at]
        b += x * other[at + 1]
        c += x * other[at + 2]
        d += x * other[at + 3]
        e += x * other[at + 4]
        f += x * other[at + 5]
        g += x * other[at + 6]
        h += x * other[at + 7]
        i += x * other[at + 8]
    for lag, total in enumerate((a, b, c, d, e, f, g, h, i)):
        found[lag] += weight * total
