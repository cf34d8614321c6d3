"""Everything that is read off the samples themselves, channel by channel, in one pass."""

import math
from typing import Any

import numpy as np

from ..files.codes import Coding, read
from ..kernels import Floats, Integers, kernel
from ..units import db_from_ratio, rms_dbfs_from_mean_square
from ..values import Source
from .gating import HOPS_PER_SECOND

SILENCE_DBFS = -60.0
SAME_SIGNAL_RATIO = 1e-8
"""Two channels carry the same signal where their difference holds less than this share of their energy."""

MUTE_RATIO = 1e-4
"""A side is mute where it holds less than this share of the other's energy, 40 dB: hiss, hum, crosstalk."""


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
        self._clipped = np.zeros((source.channels, 2), np.int64)
        self._last = np.zeros(source.channels)
        self.clipped_hops = np.zeros(1 + source.frames * HOPS_PER_SECOND // source.sample_rate_hz, np.uint8)
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

    def count_clipped(self, codes: Integers, first: int, extremes: Floats) -> None:
        """Look at every sample of the next frames × channels, only where some reach full scale or a run goes on.

        first: the number of the first of them in the file.
        """
        limits, rate_hz = self._full_scale, self._source.sample_rate_hz
        for channel, (low, high) in enumerate(extremes):
            if low <= limits[0] or high >= limits[1] or self._clipped[channel, 0]:
                state = self._clipped[channel], self._last[channel : channel + 1]
                self._count(codes, channel, *limits, *state, first, rate_hz, self.clipped_hops)

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
            "clipped_samples": int(self._clipped[:, 1].sum()),
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
        same = SAME_SIGNAL_RATIO * (left + right)
        kinds = {
            "identical": left + right - 2.0 * product <= same,
            "inverted": left + right + 2.0 * product <= same,
            "left_only": right <= MUTE_RATIO * left,
            "right_only": left <= MUTE_RATIO * right,
        }
        return next((kind for kind, holds in kinds.items() if holds), "none")

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
def count_clipped(
    codes: Integers,
    channel: int,
    lowest: float,
    highest: float,
    run: Integers,
    last: Floats,
    first: int,
    rate_hz: int,
    hops: Integers,
) -> None:
    """Add samples of a channel in runs of two or more at the same value at full scale or, in floating point, beyond.

    codes: frames × channels; lowest, highest: in units of a code; run: length of the run that goes on, samples
    counted so far; last: the sample before; both carried on. first: number of the first frame in the file; hops: of
    10 ms, set to 1 where a run is.
    """
    length, count, before = run[0], run[1], last[0]
    for frame in range(len(codes)):
        x = float(read(codes, frame, channel))
        if lowest < x < highest:
            length = 0
        else:
            length = length + 1 if length > 0 and x == before else 1
            count += 2 if length == 2 else (1 if length > 2 else 0)
            if length > 1:
                hops[(first + frame - 1) * HOPS_PER_SECOND // rate_hz] = 1
                hops[(first + frame) * HOPS_PER_SECOND // rate_hz] = 1
        before = x
    run[0], run[1], last[0] = length, count, before
