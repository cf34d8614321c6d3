"""Loudness over time of source and plan with the waveform, as points of a drawing.

Computed here and not in the browser, so that screen and proof sheet show the same lines.
"""

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from nicelevel.core.measure.gating import HOP_S, MOMENTARY_HOPS, SHORT_TERM_HOPS, STEP_HOPS, series_lufs
from nicelevel.core.plan.predict import Course
from nicelevel.core.specs.spec import Spec
from nicelevel.core.values import Note, Reading

LEFT, RIGHT, TOP, BOTTOM = 46, 18, 14, 26
GRID_LU = 6
SHOWN_LU = 36
WAVE_HEIGHT = 30
LIMITER_HEIGHT, DEEPEST_DB, SHORTEST_BAR = 60, 12.0, 0.1
_TICKS_S = (1, 2, 5, 10, 15, 30, 60, 120, 300, 600, 900, 1800, 3600)
_WIDEST_TICKS = 9


@dataclass(frozen=True)
class Tick:
    at: float
    label: str


@dataclass(frozen=True)
class Mark:
    """A place that a note speaks of."""

    at: float
    width: float
    sentence: str


@dataclass(frozen=True)
class LoudnessDrawing:
    """A drawing in pixels: SVG paths, the band of the target, and both axes."""

    width: int
    height: int
    source_path: str
    planned_path: str
    wave_path: str
    band_y: float | None
    band_height: float
    levels: tuple[Tick, ...]
    times: tuple[Tick, ...]
    marks: tuple[Mark, ...]
    limiter_path: str
    curve_name: str


def draw_loudness(reading: Reading, planned: Course, spec: Spec, width: int, height: int) -> LoudnessDrawing:
    """Draw a source and its plan into a field of so many pixels."""
    hops = SHORT_TERM_HOPS if reading.source.duration_s >= 6.0 else MOMENTARY_HOPS
    source, landing = (series_lufs(energies, hops) for energies in (reading.curves.energies, planned.energies))
    top = _top(source, landing, spec)
    plot = _Plot(width, height, top, reading.source.duration_s)
    band_y, band_height = _band(plot, spec, planned.channels)
    return LoudnessDrawing(
        width=width,
        height=height,
        source_path=plot.curve(source),
        planned_path=plot.curve(landing),
        wave_path=plot.wave(reading.curves.peaks),
        band_y=band_y,
        band_height=band_height,
        levels=plot.levels(),
        times=plot.times(),
        marks=plot.marks(reading.notes),
        limiter_path="" if planned.reductions_db is None else plot.limiter(planned.reductions_db),
        curve_name="short-term" if hops == SHORT_TERM_HOPS else "momentary",
    )


@dataclass(frozen=True)
class _Plot:
    width: int
    height: int
    top: int
    duration_s: float

    def x(self, seconds: float) -> float:
        return LEFT + (self.width - LEFT - RIGHT) * seconds / self.duration_s

    def y(self, level_lufs: float) -> float:
        return TOP + (self.top - level_lufs) * (self.height - TOP - BOTTOM) / SHOWN_LU

    def curve(self, series: NDArray[np.float64]) -> str:
        """A line through the loudest value of each pixel; broken where there is none, held inside the field."""
        pixels = max(1, self.width - LEFT - RIGHT)
        step = max(1, math.ceil(len(series) / pixels))
        foot, points, before = self.top - SHOWN_LU, [], math.nan
        for start in range(0, len(series), step):
            part = series[start : start + step]
            part = part[~np.isnan(part)]
            level = float(part.max()) if len(part) else math.nan
            x = self.x(min(self.duration_s, (start + step / 2 + 0.5) * STEP_HOPS * HOP_S))
            # Along the foot nothing is drawn: it would read as a level.
            is_under = level <= foot and before <= foot
            if not math.isnan(level):
                pen = "M" if math.isnan(before) or is_under else "L"
                points.append(f"{pen}{x:.1f} {self.y(max(level, foot)):.1f}")
            before = level
        return "".join(points)

    def wave(self, peaks: NDArray[np.float32]) -> str:
        """Bars of peak, three pixels apart, round the foot of the field."""
        bars = max(1, (self.width - LEFT - RIGHT) // 3)
        foot = self.height - BOTTOM - WAVE_HEIGHT - 2
        heights = reduced(peaks, bars) * WAVE_HEIGHT
        step = (self.width - LEFT - RIGHT) / len(heights)
        return "".join(
            f"M{LEFT + (n + 0.5) * step:.1f} {foot - h:.1f}v{2 * h + 1:.1f}" for n, h in enumerate(heights.tolist())
        )

    def limiter(self, reductions_db: NDArray[np.float64]) -> str:
        """The deepest reduction of every three pixels, hanging from the top: DEEPEST_DB is as long as it gets."""
        bars = max(1, (self.width - LEFT - RIGHT) // 3)
        bars = min(bars, len(reductions_db))
        deepest = np.maximum.reduceat(reductions_db, np.arange(bars) * len(reductions_db) // bars)
        lengths = np.minimum(deepest / DEEPEST_DB, 1.0) * LIMITER_HEIGHT
        step = (self.width - LEFT - RIGHT) / bars
        return "".join(
            f"M{LEFT + (n + 0.5) * step:.1f} {TOP - 2}v{max(length, 1.0):.1f}"
            for n, length in enumerate(lengths.tolist())
            if length > SHORTEST_BAR
        )

    def marks(self, notes: Sequence[Note]) -> tuple[Mark, ...]:
        """Every place that a note names, at least two pixels wide."""
        places = [(start_s, end_s, note.sentence) for note in notes for start_s, end_s in note.places]
        return tuple(
            Mark(round(self.x(start_s), 1), round(max(2.0, self.x(end_s) - self.x(start_s)), 1), sentence)
            for start_s, end_s, sentence in places
        )

    def levels(self) -> tuple[Tick, ...]:
        values = range(self.top - GRID_LU + self.top % -GRID_LU, self.top - SHOWN_LU, -GRID_LU)
        return tuple(Tick(round(self.y(value), 1), f"−{-value}" if value < 0 else str(value)) for value in values)

    def times(self) -> tuple[Tick, ...]:
        step = next((s for s in _TICKS_S if self.duration_s / s <= _WIDEST_TICKS), _TICKS_S[-1])
        seconds = range(0, math.floor(self.duration_s) + 1, step)
        return tuple(Tick(round(self.x(second), 1), clock(second)) for second in seconds)


def _top(source: NDArray[np.float64], planned: NDArray[np.float64], spec: Spec) -> int:
    """Level of the upper edge: above all curves and the target, on a grid line."""
    highest = [float(np.nanmax(series)) for series in (source, planned) if np.isfinite(series).any()]
    if spec.loudness:
        highest.append(spec.loudness.target + spec.loudness.tolerance)
    return math.ceil((max(highest, default=-18.0) + 2.0) / GRID_LU) * GRID_LU


def _band(plot: _Plot, spec: Spec, channels: int) -> tuple[float | None, float]:
    if spec.loudness is None or spec.loudness.measure not in ("integrated", "max_short_term"):
        return None, 0.0
    target, tolerance = spec.loudness.target_for(channels), spec.loudness.tolerance
    upper, lower = plot.y(target + tolerance), plot.y(target - tolerance)
    return round(upper, 1), round(max(lower - upper, 1.0), 1)


def reduced(peaks: NDArray[np.float32], bars: int) -> NDArray[np.float32]:
    """The largest peak of each of at most so many equal stretches, held to full scale."""
    bars = min(bars, len(peaks))
    if bars == 0:
        return np.zeros(1, np.float32)
    starts = np.arange(bars) * len(peaks) // bars
    return np.minimum(np.maximum.reduceat(peaks, starts), np.float32(1.0))


def draw_thumbnail(peaks: NDArray[np.float32], bars: int = 64, height: int = 20) -> str:
    """The waveform of a row: bars 1.1 pixels apart round the middle."""
    half = height / 2
    heights = (reduced(peaks, bars) * (half - 0.5)).tolist()
    return "".join(f"M{n * 1.1 + 0.6:.1f} {half - h:.1f}v{max(2 * h, 0.6):.1f}" for n, h in enumerate(heights))


def clock(second: int) -> str:
    """A time on an axis: 4:00, 1:02:00."""
    hours, minutes, rest = second // 3600, second % 3600 // 60, second % 60
    return f"{hours}:{minutes:02d}:{rest:02d}" if hours else f"{minutes}:{rest:02d}"
