"""A spec drawn: a level axis with target and ceiling, lengths, sizes, and the sources of a job against it."""

import math
from collections.abc import Sequence
from dataclasses import dataclass

from nicelevel.core.specs.contradictions import MB, size_bytes
from nicelevel.core.specs.format_words import format_name
from nicelevel.core.specs.judge import MEASURES
from nicelevel.core.specs.spec import MEASURE_UNITS, Spec
from nicelevel.core.values import Action, Plan, Reading

from .curve import Tick

WIDTH, HEIGHT = 620, 430
LEFT, RIGHT, TOP, FOOT = 46, 14, 16, 26
FIELD = WIDTH - LEFT - RIGHT
LONGEST_SHARE = 4.0 / 3.0
"""The axis of lengths goes on so far beyond the longest that is asked for."""

SHOWN_DB, LOWEST_DB, GRID_DB = 36, -66, 6
MOST_NAMES, SHORT_TITLE = 14, 12

MEASURE_NAMES = {
    "integrated": "Loudness, LUFS",
    "dialogue": "Speech, LUFS",
    "max_short_term": "Loudest 3 s, LUFS",
    "rms": "Level, dB RMS",
    "sample_peak": "Sample peak, dBFS",
    "true_peak": "True peak, dBTP",
}


@dataclass(frozen=True)
class Standing:
    """A source against a spec: a column with its level, where it lands, and the peak it then has; in pixels."""

    short_title: str
    title_y: float
    x: float
    source_y: float | None
    landing_y: float | None
    peak_y: float | None
    action: Action | None
    says: str


@dataclass(frozen=True)
class Line:
    """A horizontal line that can be dragged: the key of the spec that it is, and what it says."""

    key: str
    y: float
    says: str


@dataclass(frozen=True)
class LengthMark:
    """A length that can be dragged: the key of the spec that it is, its number there where that is a list."""

    key: str
    number: int | None
    at: float
    label: str


@dataclass(frozen=True)
class SizeBar:
    """How large a format gets; `fits` is None where no size is asked for."""

    name: str
    width: float
    label: str
    fits: bool | None
    chosen: bool


@dataclass(frozen=True)
class SpecDrawing:
    """Everything in pixels; what is `per_pixel` turns a drag into a change of level, length or size."""

    axis_name: str
    levels: tuple[tuple[float, str], ...]
    target_y: float | None
    band_y: float
    band_height: float
    ceilings: tuple[Line, ...]
    standings: tuple[Standing, ...]
    db_per_pixel: float
    length_ticks: tuple[Tick, ...]
    lengths: tuple[LengthMark, ...]
    s_per_pixel: float
    bars: tuple[SizeBar, ...]
    size_x: float | None
    mb_per_pixel: float
    size_name: str


def draw_spec(spec: Spec, sources: Sequence[tuple[str, Reading, Plan | None, str]]) -> SpecDrawing:
    """Draw a spec with sources against it: title, reading, plan, and why there is none."""
    measure = spec.loudness.measure if spec.loudness else "integrated"
    axis = _Axis(_bottom([MEASURES[measure](reading) for _, reading, _, _ in sources]))
    target_y, band_y, band_height = None, 0.0, 0.0
    if spec.loudness:
        target, tolerance = spec.loudness.target, spec.loudness.tolerance
        target_y, band_y = axis.y(target), axis.y(target + tolerance)
        band_height = max(2.0, axis.y(target - tolerance) - band_y)
    short_titles = _shortened([title for title, _, _, _ in sources])
    longest_s = _longest_s(spec)
    length_ticks, lengths = _lengths(spec, longest_s)
    bars, size_x, mb_per_pixel = _bars(spec, longest_s)
    return SpecDrawing(
        axis_name=MEASURE_NAMES[measure],
        levels=tuple(
            (axis.y(level), f"−{-level}" if level else "0") for level in range(0, axis.bottom_db - 1, -GRID_DB)
        ),
        target_y=target_y,
        band_y=band_y,
        band_height=band_height,
        ceilings=_ceilings(spec, axis),
        standings=tuple(_standing(number, short_titles, each, measure, axis) for number, each in enumerate(sources)),
        db_per_pixel=-axis.bottom_db / (HEIGHT - TOP - FOOT),
        length_ticks=length_ticks,
        lengths=lengths,
        s_per_pixel=longest_s * LONGEST_SHARE / FIELD,
        bars=bars,
        size_x=size_x,
        mb_per_pixel=mb_per_pixel,
        size_name=f"Size of {longest_s:g} s" if longest_s else "Size",
    )


@dataclass(frozen=True)
class _Axis:
    bottom_db: int

    def y(self, level_db: float) -> float:
        """Pixels from the top; held inside the field."""
        share = min(1.0, max(-0.02, -level_db / -self.bottom_db))
        return round(TOP + share * (HEIGHT - TOP - FOOT), 1)


def _bottom(levels: Sequence[float]) -> int:
    """The lowest level that is shown: under all sources, but no lower than LOWEST_DB."""
    lowest = min([level for level in levels if math.isfinite(level)], default=-SHOWN_DB)
    return max(LOWEST_DB, min(-SHOWN_DB, math.floor(lowest / GRID_DB) * GRID_DB))


def _ceilings(spec: Spec, axis: _Axis) -> tuple[Line, ...]:
    asked = (
        ("limits.max_true_peak_dbtp", spec.limits.max_true_peak_dbtp, "no true peak above", "dBTP"),
        ("limits.max_sample_peak_dbfs", spec.limits.max_sample_peak_dbfs, "no sample above", "dBFS"),
    )
    return tuple(
        Line(key, axis.y(level), f"{words} {_level(level)} {unit}")
        for key, level, words, unit in asked
        if level is not None
    )


def _standing(
    number: int, short_titles: Sequence[str], source: tuple[str, Reading, Plan | None, str], measure: str, axis: _Axis
) -> Standing:
    title, reading, plan, problem = source
    count = len(short_titles)
    field = FIELD - 40
    level = MEASURES[measure](reading)
    landing = MEASURES[measure](plan.predicted) if plan else -math.inf
    peak = plan.predicted.true_peak_dbtp if plan else -math.inf
    why = plan.reasons[0] if plan and plan.reasons else problem
    return Standing(
        short_title=short_titles[number] if count <= MOST_NAMES else "",
        title_y=HEIGHT + (12 if number % 2 else 0) - 10,
        x=round(LEFT + 20 + field * (number + 0.5) / count, 1),
        source_y=axis.y(level) if math.isfinite(level) else None,
        landing_y=axis.y(landing) if math.isfinite(landing) else None,
        peak_y=axis.y(peak) if math.isfinite(peak) else None,
        action=plan.action if plan else None,
        says=f"{title}: {_level(level)} {MEASURE_UNITS[measure]}. {why}",
    )


def _shortened(titles: Sequence[str]) -> list[str]:
    """Titles that fit under their columns: the start, or the end where others start alike."""
    starts = [title[:SHORT_TITLE] for title in titles]
    return [
        title
        if len(title) <= SHORT_TITLE
        else (f"…{title[-SHORT_TITLE + 1 :].strip()}" if starts.count(start) > 1 else f"{start[:-1].strip()}…")
        for title, start in zip(titles, starts, strict=True)
    ]


def _longest_s(spec: Spec) -> float:
    """The length that sizes are drawn for; 0 where none is asked for."""
    limits = spec.limits
    return max(limits.durations_s or (limits.max_duration_s or limits.min_duration_s or 0.0,))


def _lengths(spec: Spec, longest_s: float) -> tuple[tuple[Tick, ...], tuple[LengthMark, ...]]:
    """Ticks of the length axis, and the lengths that are asked for; nothing where none is."""
    if not longest_s:
        return (), ()
    end_s = longest_s * LONGEST_SHARE
    step = 10 ** math.floor(math.log10(end_s / 4))
    step = next(each for each in (step, 2 * step, 5 * step, 10 * step) if end_s / each <= 8)
    ticks = [Tick(LEFT + FIELD * n * step / end_s, f"{n * step:g}") for n in range(int(end_s / step) + 1)]
    limits = spec.limits
    asked: list[tuple[str, int | None, float | None]] = [
        ("limits.durations_s", number, each) for number, each in enumerate(limits.durations_s or ())
    ]
    asked += [("limits.min_duration_s", None, limits.min_duration_s)]
    asked += [("limits.max_duration_s", None, limits.max_duration_s)]
    marks = [
        LengthMark(key, number, round(LEFT + FIELD * each / end_s, 1), f"{each:g}")
        for key, number, each in asked
        if each
    ]
    return tuple(ticks), tuple(marks)


def _bars(spec: Spec, longest_s: float) -> tuple[tuple[SizeBar, ...], float | None, float]:
    """How large each format gets at the longest length, where the limit is, and MB per pixel."""
    sizes = [(wanted, size_bytes(wanted, longest_s) if longest_s else None) for wanted in spec.formats]
    known = [(wanted, size) for wanted, size in sizes if size]
    limit = spec.limits.max_size_bytes
    if not known:
        return (), None, 0.0
    field = FIELD * 0.88
    largest = max(*(size for _, size in known), limit or 0)
    first = next((n for n, (_, size) in enumerate(known) if limit is None or size <= limit), None)
    bars = tuple(
        SizeBar(
            format_name(wanted),
            round(max(3.0, field * size / largest), 1),
            f"{size / MB:.2f} MB",
            None if limit is None else size <= limit,
            spec.output.pick == "first_that_fits" and number == first,
        )
        for number, (wanted, size) in enumerate(known)
    )
    return bars, None if limit is None else round(LEFT + field * limit / largest, 1), largest / MB / field


def _level(level_db: float) -> str:
    if not math.isfinite(level_db):
        return "nothing"
    return f"{level_db:.1f}".replace("-", "−")
