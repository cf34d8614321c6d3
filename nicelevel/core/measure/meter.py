"""The meter: filled with samples, then asked for the reading. One pass, bounded memory."""

from copy import copy
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ..files.blocks import Block
from ..files.codes import CodeBuffer, Coding, coding_of
from ..kernels import Integers, aligned_zeros
from ..units import ratio_from_db
from ..values import Curves, Reading, Source
from .envelope import ENVELOPE_HOPS_PER_SECOND, HOPS_PER_ENERGY
from .gating import (
    MOMENTARY_HOPS,
    SHORT_TERM_HOPS,
    gating_blocks,
    integrated_lufs,
    loudest_lufs,
    short_term_steps,
)
from .hop_files import HopFiles
from .hop_peaks import HopPeakMeter
from .k_weighting import coefficients, energy_gain
from .levels import SILENCE_DBFS, LevelMeter
from .loudness_range import loudness_range_lu
from .low_band import LowBandMeter
from .notes import Traces, notes_of
from .prediction import PredictionMeter
from .scan import HALF, HOPS_AT_ONCE, LANES, SPANS, VALUES, scan, with_bits, without_bits
from .spectrum import SpectrumMeter
from .true_peak import TruePeakMeter

HOPS_PER_SUM = HOPS_PER_ENERGY
SUMS_PER_CORRELATION = 10

LONGEST_STRETCH_S, STRETCH_FRAMES = 8, 384_000
"""A stretch is of whole seconds: the longer, the less is measured twice; the more frames, the more memory."""

REST_HOPS = 200
"""How long before its first counted hop a stretch begins. The filter's slowest pole falls to 1e-20 in it."""

DEFERRED_HOPS = 100
"""True peaks are searched so much later: the filter reaches over what comes after."""

MOST_WINDOWS = 64
"""Windows of the long-term spectrum, one a second at most and evenly spread."""


class Meter:
    """Measures one source.

    Whatever the size of the blocks that come, they are gathered into whole seconds before anything is computed: so
    the block size changes no result, and hops fall on the same frames at any rate.
    """

    def __init__(
        self,
        source: Source,
        coding: Coding | None = None,
        hop_files: HopFiles | None = None,
        longest_stretch_s: int = LONGEST_STRETCH_S,
    ) -> None:
        self._source = source
        self._coding = coding or coding_of(source)
        self._hop_files = hop_files
        rate_hz, channels = source.sample_rate_hz, source.channels
        self._stretches = max(1, LANES // channels)
        # No longer than the programme needs: the room for it is not.
        needed_s = -(-source.frames // (rate_hz * self._stretches))
        self._stretch_s = max(1, min(longest_stretch_s, STRETCH_FRAMES // rate_hz, needed_s))
        block_s = self._stretches * self._stretch_s
        hops = np.arange(-REST_HOPS, block_s * ENVELOPE_HOPS_PER_SECOND + 2 * DEFERRED_HOPS)
        edges = hops * rate_hz // ENVELOPE_HOPS_PER_SECOND
        self._edges = edges - edges[0]
        self._start = int(self._edges[REST_HOPS])
        self._end = self._start + block_s * rate_hz
        self._filled = self._start
        self._done_frames = 0
        self._buffer = CodeBuffer(self._coding, channels, self._end)
        self._biquads = coefficients(rate_hz)
        self._magnitudes = np.zeros((channels, len(self._edges) - 1))
        self._highest = np.zeros(len(self._edges) - 1)
        bits = with_bits if self._coding.is_whole else without_bits
        self._scan = scan.using(read=self._coding.reads, with_bits=bits)
        self._seconds_per_window = max(1, -(-source.frames // (rate_hz * MOST_WINDOWS)))
        self._energies: list[NDArray[np.float64]] = []
        self._squares: list[NDArray[np.float64]] = []
        self._peaks: list[NDArray[np.float32]] = []
        self._correlations: list[NDArray[np.float32]] = []
        self._room = _Found(channels, block_s * ENVELOPE_HOPS_PER_SECOND)
        self._levels = LevelMeter(source, self._coding)
        longest_hop_frames = int(np.diff(self._edges).max())
        self._true_peak = TruePeakMeter(self._coding, channels, longest_hop_frames)
        self._hop_peaks = HopPeakMeter(self._coding, longest_hop_frames)
        self._low_band = LowBandMeter(self._coding, channels, rate_hz, longest_hop_frames)
        self._spectrum = SpectrumMeter(rate_hz, channels)
        self._prediction = PredictionMeter(channels)

    def room(self) -> tuple[CodeBuffer, int, int]:
        """Where the next samples go: a buffer, its first free frame and the one after its last."""
        return self._buffer, self._filled, self._end

    def filled(self, frames: int) -> None:
        """Take so many frames that were put into the room."""
        self._filled += frames
        if self._filled == self._end:
            self._measure()

    def feed(self, block: Block | Integers) -> None:
        """Take the next frames × channels: ±1.0 at full scale, or whole numbers of the meter's coding."""
        if block.ndim != 2 or block.shape[1] != self._source.channels:
            raise ValueError(f"expected frames × {self._source.channels} channels, got shape {block.shape}")
        while len(block):
            buffer, first, last = self.room()
            part, block = block[: last - first], block[last - first :]
            buffer.put(first, part)
            self.filled(len(part))

    def reading(self) -> Reading:
        """The reading of all that was fed: at least one frame. Call once."""
        if self._filled > self._start:
            self._measure()
        self._search_peaks(REST_HOPS - DEFERRED_HOPS, REST_HOPS + DEFERRED_HOPS)
        curves = Curves(
            energies=_joined(self._energies, np.float64),
            squares=_joined(self._squares, np.float64),
            peaks=_joined(self._peaks, np.float32),
            correlations=_joined(self._correlations, np.float32),
            spectrum=self._spectrum.spectrum(),
            autocorrelations=self._prediction.autocorrelations(),
        )
        clipped = self._levels.clipped_hops.astype(np.bool_)
        traces = Traces(self._true_peak.over_places_s(), self._spectrum.late_copy_s(), clipped)
        return _reading(self._source, curves, self._levels, self._true_peak, traces)

    def _measure(self) -> None:
        """Measure what is in the buffer, and keep its end as the rest of the next."""
        frames = self._filled - self._start
        hops = int(np.searchsorted(self._edges[REST_HOPS:] - self._start, frames))
        self._scan_stretches(frames, hops)
        self._search_peaks(REST_HOPS - DEFERRED_HOPS, REST_HOPS + hops - DEFERRED_HOPS)
        self._note_sounding(hops)
        self._take_windows(frames)
        self._keep_rest(hops)
        self._done_frames += frames

    def _scan_stretches(self, frames: int, hops: int) -> None:
        """Everything that one pass over the samples gives, a group of channels after the other."""
        channels, rate_hz = self._source.channels, self._source.sample_rate_hz
        stretch_s = min(self._stretch_s, -(-frames // (rate_hz * self._stretches)))
        stretches = -(-frames // (rate_hz * stretch_s))
        stretch_hops = stretch_s * ENVELOPE_HOPS_PER_SECOND
        all_hops = stretches * stretch_hops
        # A whole buffer uses the same room again: memory that is new has to be brought in page by page.
        whole = all_hops == self._room.energies.shape[1]
        found = self._room if whole else _Found(channels, all_hops)
        found.bits = 0
        for first in range(0, channels, LANES):
            self._scan_group(first, min(LANES, channels - first), stretch_hops, found)
        found = found.cut(hops)
        self._mend_last_hop(found, hops)
        magnitudes = np.negative(found.lows, out=self._magnitudes[:, REST_HOPS : REST_HOPS + hops])
        np.maximum(magnitudes, found.highs, out=magnitudes)
        self._magnitudes[:, REST_HOPS + hops :] = 0.0
        self._highest[:] = self._magnitudes.max(axis=0) * self._coding.scale
        self._keep_curves(found, frames, hops)
        extremes = found.extremes()
        self._levels.add(found.sums, extremes, found.bits)
        self._levels.count_clipped(self._buffer.codes[self._start : self._filled], self._done_frames, extremes)

    def _mend_last_hop(self, found: "_Found", hops: int) -> None:
        """Where the last hop is incomplete, the silence after it does not count."""
        if self._edges[REST_HOPS + hops] > self._filled:
            codes = self._buffer.clean_codes(int(self._edges[REST_HOPS + hops - 1]), self._filled)
            found.lows[:, -1], found.highs[:, -1] = codes.min(axis=0), codes.max(axis=0)

    def _scan_group(self, first: int, count: int, stretch_hops: int, found: "_Found") -> None:
        longest = int((self._edges[HOPS_AT_ONCE:] - self._edges[:-HOPS_AT_ONCE]).max())
        spans = aligned_zeros((SPANS,), self._coding.dtype)
        group = slice(first, first + count)
        self._scan(
            self._buffer.codes[: self._filled],
            first,
            count,
            self._edges,
            REST_HOPS,
            stretch_hops,
            HOPS_PER_SUM,
            self._biquads,
            aligned_zeros((longest, LANES + HALF), self._coding.dtype),
            aligned_zeros((VALUES,), np.float64),
            spans,
            found.energies[group],
            found.lows[group],
            found.highs[group],
            found.sums[group],
        )
        if self._coding.is_whole:
            found.bits |= int(np.bitwise_or.reduce(spans[-LANES:]))

    def _keep_curves(self, found: "_Found", frames: int, hops: int) -> None:
        """Hops of 10 ms from those of 1 ms. The incomplete hop that ends a file has no energy, but it has a peak."""
        gain = energy_gain(self._biquads) * self._coding.scale**2
        edges = self._edges[REST_HOPS::HOPS_PER_ENERGY] - self._start
        complete = int(np.searchsorted(edges, frames, side="right")) - 1
        weighted = np.array(self._source.layout.weights) * gain @ found.energies[:, : complete * HOPS_PER_ENERGY]
        sums = weighted.reshape(complete, HOPS_PER_ENERGY) @ np.ones(HOPS_PER_ENERGY)
        lengths = np.diff(edges[: complete + 1])
        self._energies.append(sums / lengths)
        self._squares.append(self._mean_squares(found.sums[:, 1, :complete]) / lengths)
        peaks = self._highest[REST_HOPS : REST_HOPS + hops]
        self._peaks.append(np.maximum.reduceat(peaks, np.arange(0, hops, HOPS_PER_ENERGY)).astype(np.float32))
        if self._source.channels == 2:
            self._correlations.append(_correlations(found.sums, -(-hops // (HOPS_PER_SUM * SUMS_PER_CORRELATION))))
        if self._hop_files:
            lengths = np.diff(self._edges[REST_HOPS : REST_HOPS + hops + 1])
            lows, highs = (array.T * self._coding.scale for array in (found.lows, found.highs))
            self._hop_files.add(lows, highs, found.energies.T * gain / lengths[:, None])

    def _mean_squares(self, sums: NDArray[np.float64]) -> NDArray[np.float64]:
        """Mean over the channels that count of channels × sums of squares, in units of a code."""
        counted = sums[[weight > 0.0 for weight in self._source.layout.weights]]
        means: NDArray[np.float64] = counted.sum(axis=0) * (self._coding.scale**2 / max(1, len(counted)))
        return means

    def _search_peaks(self, first_hop: int, last_hop: int) -> None:
        codes = self._buffer.codes[: self._filled]
        done_hops = self._done_frames * ENVELOPE_HOPS_PER_SECOND // self._source.sample_rate_hz - REST_HOPS
        self._true_peak.feed(codes, self._edges, self._magnitudes, first_hop, last_hop, done_hops)
        if self._hop_files:
            searched = codes, self._edges, self._magnitudes, first_hop, last_hop
            peaks = self._hop_peaks.peaks(*searched, self._true_peak.highest)
            lows = self._low_band.samples(codes, self._edges, first_hop, last_hop)
            self._hop_files.add_later(first_hop + done_hops, peaks, lows)

    def _note_sounding(self, hops: int) -> None:
        """Tell the first and the last frame at or over the threshold of silence."""
        threshold = ratio_from_db(SILENCE_DBFS)
        sounding = np.flatnonzero(self._highest[REST_HOPS : REST_HOPS + hops] >= threshold)
        if len(sounding) == 0:
            return
        first, last = (self._sounding_frames(int(hop), threshold) for hop in (sounding[0], sounding[-1]))
        self._levels.note_sounding(int(first[0]), int(last[-1]))

    def _sounding_frames(self, hop: int, threshold: float) -> NDArray[np.intp]:
        start, end = self._edges[REST_HOPS + hop : REST_HOPS + hop + 2]
        samples = self._buffer.samples(start, min(end, self._filled))
        frames: NDArray[np.intp] = np.flatnonzero((np.abs(samples) >= threshold).any(axis=1))
        at: NDArray[np.intp] = frames + (start - self._start + self._done_frames)
        return at

    def _take_windows(self, frames: int) -> None:
        """Windows from the middles of seconds; a last one that is too short for a spectrum is left out of it."""
        rate_hz, length = self._source.sample_rate_hz, self._spectrum.frames
        done_s = self._done_frames // rate_hz
        for second in range(-done_s % self._seconds_per_window, -(-frames // rate_hz), self._seconds_per_window):
            left = min(rate_hz, frames - second * rate_hz)
            first = self._start + second * rate_hz + max(0, left - length) // 2
            window = self._buffer.samples(first, first + min(left, length))
            self._prediction.feed(window)
            if left >= length:
                self._spectrum.feed(window)

    def _keep_rest(self, hops: int) -> None:
        """What was measured last becomes the rest before what comes next."""
        self._buffer.move_to_start(self._filled - self._start, self._filled)
        self._magnitudes[:, :REST_HOPS] = self._magnitudes[:, hops : hops + REST_HOPS]
        self._magnitudes[:, REST_HOPS:] = 0.0
        self._filled = self._start


class _Found:
    """What one scan finds, in units of a code: see there."""

    def __init__(self, channels: int, hops: int) -> None:
        self.energies, self.lows, self.highs = (np.empty((channels, hops)) for _ in range(3))
        self.sums = np.empty((channels, 3, hops // HOPS_PER_SUM))
        self.bits = 0

    def cut(self, hops: int) -> "_Found":
        """The same without what lies after the end."""
        cut = copy(self)
        cut.energies, cut.lows, cut.highs = (array[:, :hops] for array in (self.energies, self.lows, self.highs))
        return cut

    def extremes(self) -> NDArray[np.float64]:
        """Channels × 2, the lowest and the highest."""
        return np.stack((self.lows.min(axis=1), self.highs.max(axis=1)), axis=1)


def _correlations(sums: NDArray[np.float64], count: int) -> NDArray[np.float32]:
    """Correlation of two channels in every tenth of a second; NaN where one of them is silent."""
    tenths = sums.reshape(2, 3, -1, SUMS_PER_CORRELATION).sum(axis=3)[:, :, :count]
    squares = tenths[0, 1] * tenths[1, 1]
    values = np.full(count, np.nan, np.float32)
    np.divide(tenths[0, 2], np.sqrt(squares), out=values, where=squares > 0.0, casting="same_kind")
    return values


def _joined(parts: list[Any], dtype: type) -> Any:
    return np.concatenate(parts) if parts else np.empty(0, dtype)


def _reading(
    source: Source, curves: Curves, level_meter: LevelMeter, true_peak: TruePeakMeter, traces: Traces
) -> Reading:
    reading = Reading(
        source=source,
        true_peak_per_channel_dbtp=true_peak.peaks_dbtp(),
        curves=curves,
        **loudness_figures(curves),
        **level_meter.figures(),
    )
    return reading.with_notes(notes_of(reading, traces))


def loudness_figures(curves: Curves) -> dict[str, Any]:
    """Every loudness of a Reading by its field's name, from the hop energies alone."""
    return {
        "integrated_lufs": integrated_lufs(gating_blocks(curves.energies)),
        "loudness_range_lu": loudness_range_lu(short_term_steps(curves.energies)),
        "max_momentary_lufs": loudest_lufs(curves.energies, MOMENTARY_HOPS),
        "max_short_term_lufs": loudest_lufs(curves.energies, SHORT_TERM_HOPS),
    }
