"""Everything that is read off the samples themselves, channel by channel, in one pass."""

import math
from typing import Any

import numpy as np

from ..files.codes import Coding, read
from ..kernels import Floats, Integers, kernel
from ..units import db_from_ratio, rms_dbfs_from_mean_square
from ..values import Source

SILENCE_DBFS = -60.0
SAME_SIGNAL_RATIO = 1e-8
"""Two channels carry the same signal where their difference holds less than this share of their energy."""


class LevelMeter:
    """Told what the scan found and shown where full scale is reached, then asked."""

    def __init__(self, source: Source, coding: Coding) -> None:
        self._source = source
        self._scale = coding.scale
        self._sums = np.zeros(source.channels)
        self._squares = np.zeros(source.channels)
        self._product = 0.0
        self._extremes = np.tile([math.inf, -math.inf], (source.channels, 1))
        self._moving_bits, self._shift = 0, 32 - 8 * coding.dtype.itemsize if coding.is_whole else 0
        self._full_scale = [limit / coding.scale for limit in _full_scale(source)]
        self._count = count_clipped.using(read=coding.reads)
        self._clipped = np.zeros((source.channels, 3), np.int64)
        self._first_sounding: int | None = None
        self._last_sounding = -1

    def add(self, sums: Floats, extremes: Floats, moving_bits: int) -> None:
        """Take what the scan found in the next frames, in units of a code.

        sums: channels × 3 × times, of samples, squares, products with the next channel; extremes: channels × 2.
        """
        totals = sums.sum(axis=2)
        self._sums += totals[:, 0] * self._scale
        self._squares += totals[:, 1] * self._scale**2
        self._product += float(totals[0, 2]) * self._scale**2
        self._extremes[:, 0] = np.minimum(self._extremes[:, 0], extremes[:, 0])
        self._extremes[:, 1] = np.maximum(self._extremes[:, 1], extremes[:, 1])
        self._moving_bits |= moving_bits << self._shift

    def count_clipped(self, codes: Integers, extremes: Floats) -> None:
        """Look at every sample of the next frames × channels, only where some reach full scale or a run goes on."""
        lowest, highest = self._full_scale
        for channel, (low, high) in enumerate(extremes):
            if low <= lowest or high >= highest or self._clipped[channel, 0]:
                self._count(codes, channel, lowest, highest, self._clipped[channel])

    def note_sounding(self, first: int, last: int) -> None:
        """Take the next frames that reach the threshold of silence: the first and the last one."""
        if self._first_sounding is None:
            self._first_sounding = first
        self._last_sounding = last

    def figures(self) -> dict[str, Any]:
        """Every figure of the samples by its field's name in a Reading; at least one frame was fed."""
        rate_hz = self._source.sample_rate_hz
        frames = self._source.frames
        head = frames if self._first_sounding is None else self._first_sounding
        lowest, highest = self._extremes[:, 0].min() * self._scale, self._extremes[:, 1].max() * self._scale
        return {
            "sample_peak_dbfs": db_from_ratio(max(-lowest, highest, 0.0)),
            "min_sample": float(lowest),
            "max_sample": float(highest),
            "rms_dbfs": self._rms_dbfs(),
            "dc_offset": tuple(float(total) / frames for total in self._sums),
            "clipped_samples": int(self._clipped[:, 2].sum()),
            "silence_head_s": head / rate_hz,
            "silence_tail_s": (frames - 1 - self._last_sounding) / rate_hz,
            "correlation": self._correlation(),
            "mono_kind": self._mono_kind(),
            "bits_used": self._bits_used(),
        }

    def _rms_dbfs(self) -> float:
        counted = [weight > 0.0 for weight in self._source.layout.weights]
        if not any(counted):
            return -math.inf
        return rms_dbfs_from_mean_square(float(self._squares[counted].mean()) / self._source.frames)

    def _correlation(self) -> float | None:
        if self._source.channels != 2:
            return None
        means_product = self._sums[0] * self._sums[1] / self._source.frames
        spread_left, spread_right = self._squares - self._sums**2 / self._source.frames
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


@kernel
def count_clipped(codes: Integers, channel: int, lowest: float, highest: float, run: Integers) -> None:
    """Add samples of a channel in runs of two or more at the same full-scale value.

    codes: frames × channels; lowest, highest: in units of a code; run: length of the run that goes on, its sign,
    samples counted so far; carried on.
    """
    length, sign, count = run[0], run[1], run[2]
    for frame in range(len(codes)):
        x = read(codes, frame, channel)
        now = 1 if x >= highest else (-1 if x <= lowest else 0)
        if now == 0:
            length = 0
        else:
            length = length + 1 if now == sign else 1
            count += 2 if length == 2 else (1 if length > 2 else 0)
        sign = now
    run[0], run[1], run[2] = length, sign, count
