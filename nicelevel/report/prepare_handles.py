"""What can be dragged on a step's strip: its levels, against the level of what comes to it, and its times."""

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from nicelevel.core.prepare.sketch import Sketched
from nicelevel.core.steps import Step
from nicelevel.core.steps.hops import HOPS_PER_SECOND, Hops
from nicelevel.core.words import change

from .curve import reduced

HIGHEST_DB, LOWEST_DB = 0.0, -80.0
GAIN_SPAN_DB = 24.0
"""A gain is dragged over so much upwards and downwards."""

PIXELS_PER_POINT = 2


@dataclass(frozen=True)
class Handle:
    """A line across the strip that changes a key.

    at: pixels from the left, or from the top; per_pixel: by how much the figure grows to the right, or upwards;
    words: what stands beside it; lowest, highest: of the figure.
    """

    key: str
    axis: Literal["x", "y"]
    at: float
    per_pixel: float
    words: str
    lowest: float = 0.0
    highest: float = 86_400.0


@dataclass(frozen=True)
class Handles:
    """level: of what comes to a step, as an outline from the bottom, where a threshold stands against it."""

    level: str = ""
    lines: tuple[Handle, ...] = ()


def handles_of(
    made: Sketched, place: Callable[[float], float], duration_s: float, width: int, height: int
) -> Handles:
    """place: where a time of what comes to the step lies, in pixels; width, height: of the strip."""
    lines = tuple(_lines(made, place, duration_s / width, height))
    return Handles(_level(made, place, height) if _threshold(made.step) else "", lines)


def _threshold(step: Step) -> str:
    """The key of the level that a step compares with; empty where it has none."""
    return next((key for key in ("below_db", "above_db") if key in type(step).model_fields), "")


def _lines(made: Sketched, place: Callable[[float], float], s_per_pixel: float, height: int) -> Iterator[Handle]:
    step, length_s = made.step, _length_s(made)
    if key := _threshold(step):
        value = float(getattr(step, key))
        yield Handle(key, "y", _y(value, height), -LOWEST_DB / height, f"{change(value)} dB", -200.0, 0.0)
    if step.do == "gain":
        value = float(getattr(step, "db"))  # noqa: B009
        at = height / 2 * (1.0 - max(-1.0, min(1.0, value / GAIN_SPAN_DB)))
        yield Handle("db", "y", round(at, 1), 2 * GAIN_SPAN_DB / height, f"{change(value)} dB", -200.0, 200.0)
    for key, from_end in _TIMES.get(step.do, ()):
        value_s = getattr(step, key)
        if value_s is not None:
            at_s = length_s - value_s if from_end else value_s
            sign = -1.0 if from_end else 1.0
            yield Handle(key, "x", place(max(0.0, at_s)), sign * s_per_pixel, f"{value_s:g} s")


_TIMES: dict[str, tuple[tuple[str, bool], ...]] = {
    "cut": (("from_s", False), ("to_s", False)),
    "fade": (("in_s", False), ("out_s", True)),
    "silence": (("head_s", False),),
    "length": (("seconds", False),),
}
"""Keys that are times on the axis; of each whether it is counted from the end."""


def _length_s(made: Sketched) -> float:
    return made.done.before.duration_s if made.done else made.shape.duration_s


def _y(value_db: float, height: int) -> float:
    share = (HIGHEST_DB - value_db) / (HIGHEST_DB - LOWEST_DB)
    return round(height * min(1.0, max(0.0, share)), 1)


def _level(made: Sketched, place: Callable[[float], float], height: int) -> str:
    """The highest level of each few pixels: of samples, or over 10 ms, as the step goes by it."""
    values = _gone_by(made.step, made.came)
    seconds = len(values) / HOPS_PER_SECOND
    return outline(values, place(0.0), place(seconds), height, lambda share: place(share * seconds))


def outline(
    values: NDArray[np.float64],
    left: float,
    right: float,
    height: int,
    place: Callable[[float], float] | None = None,
) -> str:
    """A level along time as an outline from the bottom.

    place: where a share of its length lies; evenly by default.
    """
    if not len(values):
        return ""
    heights = reduced(values.astype(np.float32), max(2, int((right - left) / PIXELS_PER_POINT))).astype(np.float64)
    levels_db = 20.0 * np.log10(np.maximum(heights, 10.0 ** (LOWEST_DB / 20.0)))
    shares = np.linspace(0.0, 1.0, len(levels_db)).tolist()
    xs = [place(share) if place else left + share * (right - left) for share in shares]
    points = "L".join(f"{x:.1f} {_y(y, height):.1f}" for x, y in zip(xs, levels_db.tolist(), strict=True))
    return f"M{xs[0]:.1f} {height}L{points}L{xs[-1]:.1f} {height}Z"


def _gone_by(step: Step, came: Hops) -> NDArray[np.float64]:
    return np.sqrt(came.squares) if step.do in ("gate", "compress") else came.peaks
