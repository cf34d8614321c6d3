"""The meter: fed with blocks, then asked for the reading. One pass, bounded memory."""

from typing import Any

import numpy as np
from numpy.typing import NDArray

from ..kernels import Floats
from ..values import Curves, Reading, Source
from .gating import (
    HOPS_PER_SECOND,
    MOMENTARY_HOPS,
    SHORT_TERM_HOPS,
    gating_blocks,
    integrated_lufs,
    loudest_lufs,
    short_term_steps,
)
from .k_weighting import coefficients, weighted_energies
from .levels import LevelMeter
from .loudness_range import loudness_range_lu
from .notes import notes_of
from .spectrum import SpectrumMeter
from .true_peak import TruePeakMeter


class Meter:
    """Measures one source.

    Whatever the size of the blocks that come, they are regrouped into whole seconds before anything is
    computed: so the block size changes no result, and hops of 10 ms fall on the same frames at any rate.
    """

    def __init__(self, source: Source) -> None:
        self._source = source
        self._planes: Floats | None = None
        self._filled = 0
        self._edges = np.arange(HOPS_PER_SECOND + 1) * source.sample_rate_hz // HOPS_PER_SECOND
        self._biquads = coefficients(source.sample_rate_hz)
        self._weights = np.array(source.layout.weights)
        self._filter_state = np.zeros((source.channels, 4))
        self._energies: list[NDArray[np.float64]] = []
        self._peaks: list[NDArray[np.float32]] = []
        self._levels = LevelMeter(source)
        self._true_peak = TruePeakMeter(source.channels)
        self._spectrum = SpectrumMeter()

    def feed(self, block: NDArray[np.floating]) -> None:
        """Take the next frames × channels, ±1.0 at full scale, float32 or float64."""
        if block.ndim != 2 or block.shape[1] != self._source.channels:
            raise ValueError(f"expected frames × {self._source.channels} channels, got shape {block.shape}")
        if self._planes is None:
            self._planes = np.empty((self._source.channels, self._source.sample_rate_hz), block.dtype)
        second_frames = self._planes.shape[1]
        taken = 0
        while taken < len(block):
            room = min(second_frames - self._filled, len(block) - taken)
            self._planes[:, self._filled : self._filled + room] = block[taken : taken + room].T
            self._filled += room
            taken += room
            if self._filled == second_frames:
                self._measure(self._planes)
                self._filled = 0

    def reading(self) -> Reading:
        """The reading of all that was fed: at least one frame. Call once."""
        if self._planes is not None and self._filled:
            self._measure(np.ascontiguousarray(self._planes[:, : self._filled]))
        curves = Curves(np.concatenate(self._energies), np.concatenate(self._peaks), self._spectrum.spectrum())
        return _reading(self._source, curves, self._levels, self._true_peak)

    def _measure(self, planes: Floats) -> None:
        """Take a second, or what is left of one, as channels × frames."""
        frames = planes.shape[1]
        edges = self._edges[: int(np.searchsorted(self._edges, frames, side="right"))]
        energies = np.zeros(len(edges) - 1)
        weighted_energies(planes, edges, self._weights, self._biquads, self._filter_state, energies)
        self._energies.append(energies)
        # The incomplete hop that ends a file has no energy, but it has a peak.
        self._peaks.append(self._levels.feed(planes, edges if edges[-1] == frames else np.append(edges, frames)))
        self._true_peak.feed(planes)
        self._spectrum.feed(planes)


def _reading(source: Source, curves: Curves, level_meter: LevelMeter, true_peak: TruePeakMeter) -> Reading:
    levels = level_meter.levels()
    reading = Reading(
        source=source,
        true_peak_per_channel_dbtp=true_peak.peaks_dbtp(),
        curves=curves,
        **loudness_figures(curves),
        **vars(levels),
    )
    return reading.with_notes(notes_of(reading))


def loudness_figures(curves: Curves) -> dict[str, Any]:
    """Every loudness of a Reading by its field's name, from the hop energies alone."""
    return {
        "integrated_lufs": integrated_lufs(gating_blocks(curves.energies)),
        "loudness_range_lu": loudness_range_lu(short_term_steps(curves.energies)),
        "max_momentary_lufs": loudest_lufs(curves.energies, MOMENTARY_HOPS),
        "max_short_term_lufs": loudest_lufs(curves.energies, SHORT_TERM_HOPS),
    }
