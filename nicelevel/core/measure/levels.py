"""Everything that is read off the samples themselves, channel by channel, in one pass."""

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ..kernels import Floats, Integers, kernel, vectorised
from ..units import db_from_ratio, ratio_from_db, rms_dbfs_from_mean_square
from ..values import Source

SILENCE_DBFS = -60.0
SAME_SIGNAL_RATIO = 1e-8
"""Two channels carry the same signal where their difference holds less than this share of their energy."""


@dataclass(frozen=True)
class Levels:
    """Figures of the samples; the names are those of the Reading."""

    sample_peak_dbfs: float
    min_sample: float
    max_sample: float
    rms_dbfs: float
    dc_offset: tuple[float, ...]
    clipped_samples: int
    silence_head_s: float
    silence_tail_s: float
    correlation: float | None
    mono_kind: str | None
    bits_used: int | None


class LevelMeter:
    """Fed with planes of channels × frames, then asked."""

    def __init__(self, source: Source) -> None:
        self._source = source
        self._sums = np.zeros(source.channels)
        self._squares = np.zeros(source.channels)
        self._product = 0.0
        self._lowest, self._highest = math.inf, -math.inf
        self._moving_bits = 0
        self._clipped = np.zeros((source.channels, 3), np.int64)
        self._first_sounding: int | None = None
        self._last_sounding = -1
        self._frames = 0

    def feed(self, planes: Floats, edges: Integers) -> NDArray[np.float32]:
        """Take the next frames; the largest absolute sample of any channel between each two edges."""
        channels, frames = planes.shape
        lows, highs = (np.empty((channels, len(edges) - 1)) for _ in range(2))
        for channel in range(channels):
            total, squares, bits = extremes(planes[channel], edges, lows[channel], highs[channel])
            self._sums[channel] += total
            self._squares[channel] += squares
            self._moving_bits |= int(bits)
        if channels == 2:
            self._product += product(planes[0], planes[1])
        self._lowest, self._highest = min(self._lowest, lows.min()), max(self._highest, highs.max())
        self._count_clipped(planes, lows, highs)
        peaks: NDArray[np.float64] = np.maximum(-lows, highs).max(axis=0)
        self._note_sounding(planes, edges, peaks)
        self._frames += frames
        return peaks.astype(np.float32)

    def _count_clipped(self, planes: Floats, lows: Floats, highs: Floats) -> None:
        """Look at every sample only where some reach full scale, or a run goes on."""
        lowest, highest = _full_scale(self._source)
        for channel, plane in enumerate(planes):
            if lows[channel].min() <= lowest or highs[channel].max() >= highest or self._clipped[channel, 0]:
                count_clipped(plane, lowest, highest, self._clipped[channel])

    def _note_sounding(self, planes: Floats, edges: Integers, peaks: Floats) -> None:
        """The first and the last frame at or over the threshold of silence."""
        threshold = ratio_from_db(SILENCE_DBFS)
        hops = np.flatnonzero(peaks >= threshold)
        if len(hops) == 0:
            return
        if self._first_sounding is None:
            self._first_sounding = self._frames + _sounding(planes, edges, int(hops[0]), threshold)[0]
        self._last_sounding = self._frames + _sounding(planes, edges, int(hops[-1]), threshold)[1]

    def levels(self) -> Levels:
        """All figures of what was fed; at least one frame."""
        rate_hz = self._source.sample_rate_hz
        head = self._frames if self._first_sounding is None else self._first_sounding
        return Levels(
            sample_peak_dbfs=db_from_ratio(max(-self._lowest, self._highest, 0.0)),
            min_sample=float(self._lowest),
            max_sample=float(self._highest),
            rms_dbfs=self._rms_dbfs(),
            dc_offset=tuple(float(total) / self._frames for total in self._sums),
            clipped_samples=int(self._clipped[:, 2].sum()),
            silence_head_s=head / rate_hz,
            silence_tail_s=(self._frames - 1 - self._last_sounding) / rate_hz,
            correlation=self._correlation(),
            mono_kind=self._mono_kind(),
            bits_used=self._bits_used(),
        )

    def _rms_dbfs(self) -> float:
        counted = [weight > 0.0 for weight in self._source.layout.weights]
        if not any(counted):
            return -math.inf
        return rms_dbfs_from_mean_square(float(self._squares[counted].mean()) / self._frames)

    def _correlation(self) -> float | None:
        if self._source.channels != 2:
            return None
        means_product = self._sums[0] * self._sums[1] / self._frames
        spread_left, spread_right = self._squares - self._sums**2 / self._frames
        if spread_left <= 0.0 or spread_right <= 0.0:
            return None
        value = (self._product - means_product) / math.sqrt(spread_left * spread_right)
        return max(-1.0, min(1.0, float(value)))

    def _mono_kind(self) -> str | None:
        if self._source.channels != 2:
            return None
        (left, right), product = self._squares, self._product
        smallest = SAME_SIGNAL_RATIO * (left + right)
        kinds = {
            "identical": left + right - 2.0 * product,
            "inverted": left + right + 2.0 * product,
            "left_only": right,
            "right_only": left,
        }
        return next((kind for kind, residual in kinds.items() if residual <= smallest), "none")

    def _bits_used(self) -> int | None:
        declared = self._source.bits_declared
        if declared is None:
            return None
        moving = self._moving_bits
        return 33 - (moving & -moving).bit_length() if moving else 0


def _full_scale(source: Source) -> tuple[float, float]:
    """The most negative and most positive value that the encoding holds."""
    if source.bits_declared is None:
        return -1.0, 1.0
    return -1.0, 1.0 - 2.0 ** (1 - source.bits_declared)


def _sounding(planes: Floats, edges: Integers, hop: int, threshold: float) -> tuple[int, int]:
    """First and last frame of a hop that reach the threshold in any channel."""
    start = int(edges[hop])
    reach = np.flatnonzero((np.abs(planes[:, start : edges[hop + 1]]) >= threshold).any(axis=0))
    return start + int(reach[0]), start + int(reach[-1])


@vectorised
def extremes(plane: Floats, edges: Integers, lows: Floats, highs: Floats) -> tuple[float, float, np.int32]:
    """Lowest and highest sample between each two edges; sum, sum of squares and moving bits of all.

    plane: one channel; bits: those of a 32-bit word that are ever set.
    """
    total, squares, bits = 0.0, 0.0, np.int32(0)
    for hop in range(len(edges) - 1):
        part = plane[edges[hop] : edges[hop + 1]]
        low, high = part[0], part[0]
        for frame in range(len(part)):
            x = part[frame]
            low = x if x < low else low
            high = x if x > high else high
            total += float(x)
            squares += float(x) * float(x)
            bits |= np.int32(x * np.float32(2147483648.0))
        lows[hop], highs[hop] = low, high
    return total, squares, bits


@vectorised
def product(plane: Floats, other: Floats) -> float:
    """Sum of the products of two channels."""
    total = 0.0
    for frame in range(len(plane)):
        total += float(plane[frame]) * float(other[frame])
    return total


@kernel
def count_clipped(plane: Floats, lowest: float, highest: float, run: Integers) -> None:
    """Add samples in runs of two or more at the same full-scale value.

    run: length of the run that goes on, its sign, samples counted so far; carried on.
    """
    length, sign, count = run[0], run[1], run[2]
    for frame in range(len(plane)):
        x = plane[frame]
        now = 1 if x >= highest else (-1 if x <= lowest else 0)
        if now == 0:
            length = 0
        else:
            length = length + 1 if now == sign else 1
            count += 2 if length == 2 else (1 if length > 2 else 0)
        sign = now
    run[0], run[1], run[2] = length, sign, count
