"""What a voice is told by: the power of fourteen bands and how noise-like it is, forty times a second."""

import numpy as np
from numpy.typing import NDArray

from ..channels import LFE_POSITIONS
from ..files.blocks import Block
from ..values import Shape

Floats = NDArray[np.float64]

FRAMES_PER_SECOND = 40
WINDOW_S = 0.032
LOWEST_HZ, HIGHEST_HZ, BANDS = 120.0, 5_000.0, 14
FLAT_HZ = (100.0, 4_000.0)
TINY = 1e-15


class VoiceBands:
    """Of the centre, where a layout has one beside others, for there the voice is; else of all channels but LFE."""

    def __init__(self, shape: Shape) -> None:
        rate_hz, positions = shape.rate_hz, shape.layout.positions
        self._size, self._apart = max(16, round(WINDOW_S * rate_hz)), max(1, rate_hz // FRAMES_PER_SECOND)
        bins_hz = np.fft.rfftfreq(self._size, 1.0 / rate_hz)
        edges_hz = np.geomspace(LOWEST_HZ, min(HIGHEST_HZ, 0.45 * rate_hz), BANDS + 1)
        self._edges = np.unique(np.searchsorted(bins_hz, edges_hz))
        self._flat = (bins_hz >= FLAT_HZ[0]) & (bins_hz <= FLAT_HZ[1])
        self._taper = np.hanning(self._size)
        centre = [number for number, position in enumerate(positions) if position == "C"]
        others = [number for number, position in enumerate(positions) if position not in LFE_POSITIONS]
        self._heard = centre or others or list(range(len(positions)))
        self._held = np.zeros(0)
        self._powers: list[NDArray[np.float32]] = []
        self._flatness: list[NDArray[np.float32]] = []

    def feed(self, block: Block) -> None:
        """Take the next frames × channels; blocks may be of any size."""
        mean = sum((block[:, number] for number in self._heard), start=np.zeros(len(block))) / len(self._heard)
        self._held = np.concatenate((self._held, mean))
        count = (len(self._held) - self._size) // self._apart + 1
        if count > 0:
            windows = np.lib.stride_tricks.sliding_window_view(self._held, self._size)[:: self._apart][:count]
            self._hear(windows)
            self._held = self._held[count * self._apart :]

    def _hear(self, windows: Floats) -> None:
        spectrum = np.abs(np.fft.rfft(windows * self._taper)) ** 2
        widths = np.diff(self._edges)
        self._powers.append((np.add.reduceat(spectrum, self._edges, axis=1)[:, :-1] / widths).astype(np.float32))
        band = spectrum[:, self._flat] + TINY
        flatness = np.exp(np.log(band).mean(axis=1)) / band.mean(axis=1)
        self._flatness.append(flatness.astype(np.float32))

    def powers(self) -> Floats:
        """Frames × bands."""
        found = np.concatenate(self._powers) if self._powers else np.zeros((0, max(1, len(self._edges) - 1)))
        return found.astype(np.float64)

    def flatness(self) -> Floats:
        """Of each frame, from 0 (tones) to 1."""
        found = np.concatenate(self._flatness) if self._flatness else np.zeros(0)
        return found.astype(np.float64)
