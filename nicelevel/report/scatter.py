"""The sources of a job as points in a field of two figures; what stands out is named."""

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from nicelevel.core.measure.neighbours import outlying
from nicelevel.core.values import Note, Reading

from .board_words import short_note
from .curve import Tick
from .words import figure, level

LEFT, RIGHT, TOP, BOTTOM = 74, 60, 26, 52
LABEL_TALL, LABEL_WIDE, DOT = 28, 6.6, 6
TICKS = 8


@dataclass(frozen=True)
class Axis:
    """A figure that points can be laid out by; nearer than `least` to the others is no outlier."""

    name: str
    unit: str
    value: Callable[[Reading], float | None]
    least: float


AXES = {
    "integrated": Axis("Integrated loudness", "LUFS", lambda each: each.integrated_lufs, 3.0),
    "true_peak": Axis("True peak", "dBTP", lambda each: each.true_peak_dbtp, 3.0),
    "range": Axis("Loudness range", "LU", lambda each: each.loudness_range_lu, 4.0),
    "plr": Axis("Peak to loudness", "LU", lambda each: each.plr_lu, 4.0),
    "short_term": Axis("Loudest 3 s", "LUFS", lambda each: each.max_short_term_lufs, 3.0),
    "rms": Axis("RMS", "dB", lambda each: each.rms_dbfs, 3.0),
    "correlation": Axis("Correlation", "", lambda each: each.correlation, 0.5),
    "length": Axis("Length", "s", lambda each: each.source.duration_s, 5.0),
}

RINGED = frozenset(
    {
        "clipped",
        "digital_silence",
        "inverted",
        "layout_outlier",
        "limited_outlier",
        "limiter_left_on",
        "one_sided",
        "rate_outlier",
        "silence_inside",
        "tick_at_head",
    }
)
"""Notes that make a source stand out wherever it lies."""


@dataclass(frozen=True)
class Point:
    """One source: where it is drawn and, for what stands out, its words and where they stand."""

    key: int
    title: str
    x: float
    y: float
    spoken: str
    reason: str
    label_x: float
    label_y: float


@dataclass(frozen=True)
class Scatter:
    width: int
    height: int
    points: tuple[Point, ...]
    x_ticks: tuple[Tick, ...]
    y_ticks: tuple[Tick, ...]
    missing: tuple[str, ...]


Named = tuple[int, str, Reading]
"""A source's key, its title and its reading."""


def draw_scatter(sources: Sequence[Named], x_axis: Axis, y_axis: Axis, width: int, height: int) -> Scatter:
    """Lay the sources out in a field of so many pixels."""
    values = [[axis.value(reading) for _, _, reading in sources] for axis in (x_axis, y_axis)]
    far = [outlying(row, axis.least) for row, axis in zip(values, (x_axis, y_axis), strict=True)]
    known = [at for at in range(len(sources)) if all(_is_known(row[at]) for row in values)]
    missing = tuple(sources[at][1] for at in range(len(sources)) if at not in known)
    if not known:
        return Scatter(width, height, (), (), (), missing)
    (x_of, x_ticks), (y_of, y_ticks) = (
        _scale([row[at] for at in known], start, end)
        for row, (start, end) in zip(values, ((LEFT, width - RIGHT), (height - BOTTOM, TOP)), strict=True)
    )
    points = []
    for at in known:
        (key, title, reading), found = sources[at], [row[at] or 0.0 for row in values]
        reason = _reason(reading.notes, (far[0][at], far[1][at]), (x_axis, y_axis))
        figures = ", ".join(
            f"{axis.name.lower()} {level(value)} {axis.unit}".strip()
            for axis, value in zip((x_axis, y_axis), found, strict=True)
        )
        x, y = x_of(found[0]), y_of(found[1])
        points.append(Point(key, title, x, y, figures, reason, x + 12, y + 4))
    return Scatter(width, height, tuple(_labelled(points)), x_ticks, y_ticks, missing)


def _is_known(value: float | None) -> bool:
    return value is not None and bool(np.isfinite(value))


def _reason(notes: Sequence[Note], far: tuple[bool, bool], axes: tuple[Axis, Axis]) -> str:
    """Why a source stands out, in a few words; empty where it does not."""
    noted = [short_note(note) for note in notes if note.code in RINGED]
    apart = [f"{axis.name.lower()} apart" for axis, is_far in zip(axes, far, strict=True) if is_far]
    return ", ".join(dict.fromkeys(noted + apart))


def _scale(values: Sequence[Any], start: float, end: float) -> tuple[Callable[[float], float], tuple[Tick, ...]]:
    low, high = min(values), max(values)
    step = _step(max(high - low, 1e-3) / TICKS)
    low, high = (np.floor(low / step) - 0.5) * step, (np.ceil(high / step) + 0.5) * step

    def place(value: float) -> float:
        return round(float(start + (value - low) / (high - low) * (end - start)), 1)

    decimals = max(0, -int(np.floor(np.log10(step))))
    marks = np.arange(np.ceil(low / step), np.floor(high / step) + 1) * step
    return place, tuple(Tick(place(float(mark)), figure(float(mark), decimals)) for mark in marks)


def _step(least: float) -> float:
    power = 10.0 ** np.floor(np.log10(least))
    return float(next(step * power for step in (1.0, 2.0, 5.0, 10.0) if step * power >= least * 0.999))


def _labelled(points: Sequence[Point]) -> list[Point]:
    """The words of each point that stands out, where they cover the least of other points and words."""
    taken = [(point.x - DOT, point.y - DOT, point.x + DOT, point.y + DOT) for point in points]
    placed = []
    for point in sorted(points, key=lambda each: each.y):
        if point.reason:
            wide = LABEL_WIDE * max(len(point.title), len(point.reason))
            corners = (
                (point.x + 14, point.y - 8),
                (point.x - 14 - wide, point.y - 8),
                (point.x - wide / 2, point.y + 14),
                (point.x - wide / 2, point.y - 14 - LABEL_TALL),
            )
            boxes = [(x, y, x + wide, y + LABEL_TALL) for x, y in corners]
            best = min(boxes, key=lambda box: (box[0] < LEFT, sum(_shared(box, other) for other in taken)))
            taken.append(best)
            point = replace(point, label_x=round(best[0], 1), label_y=round(best[1] + 12, 1))
        placed.append(point)
    return placed


Box = tuple[float, float, float, float]


def _shared(one: Box, other: Box) -> float:
    """The area that two boxes have in common, in square pixels."""
    wide, tall = (min(one[side + 2], other[side + 2]) - max(one[side], other[side]) for side in (0, 1))
    return max(0.0, wide) * max(0.0, tall)
