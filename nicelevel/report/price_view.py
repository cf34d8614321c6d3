"""The price curve drawn: level reached upward, depth of limiting to the right."""

import math
from collections.abc import Sequence
from dataclasses import dataclass

from nicelevel.core.plan.price import DEEPEST_DB, Price
from nicelevel.core.specs.judge import MEASURES
from nicelevel.core.specs.spec import MEASURE_UNITS, Spec
from nicelevel.core.values import Plan
from nicelevel.core.words import figure

WIDTH, HEIGHT = 302, 112
LEFT, RIGHT, TOP, FOOT = 34, 8, 8, 22
TICK_DB = 3
SPARE_LU = 1.0


@dataclass(frozen=True)
class PriceDrawing:
    """In pixels. allowed_x: the deepest limiting that the spec allows, None where all is."""

    path: str
    dots: tuple[tuple[float, float, str], ...]
    x_ticks: tuple[tuple[float, str], ...]
    y_ticks: tuple[tuple[float, str], ...]
    band_y: float
    band_height: float
    allowed_x: float | None
    now: tuple[float, float] | None
    target_y: float
    level_at_top: float
    level_per_pixel: float
    says: str


def draw_price(found: Sequence[Price], spec: Spec, plan: Plan) -> PriceDrawing | None:
    """Draw what limiting reaches, the target and the plan's own point; None where there is nothing to draw."""
    known = [each for each in found if math.isfinite(each.level)]
    if len(known) < 2 or spec.loudness is None:
        return None
    channels = plan.predicted.source.channels
    target, tolerance = spec.loudness.target_for(channels), spec.loudness.tolerance
    lowest = min(known[0].level, target - tolerance) - SPARE_LU
    highest = max(known[-1].level, target + tolerance) + SPARE_LU

    def x(depth_db: float) -> float:
        return round(LEFT + (WIDTH - LEFT - RIGHT) * min(depth_db, DEEPEST_DB) / DEEPEST_DB, 1)

    def y(level: float) -> float:
        return round(TOP + (HEIGHT - TOP - FOOT) * (highest - level) / (highest - lowest), 1)

    unit = MEASURE_UNITS[spec.loudness.measure]
    step = next(each for each in (1, 2, 3, 5, 10, 20) if (highest - lowest) / each <= 5)
    allowed = spec.method.max_limiting_db if spec.method.allow == "limiter" else 0.0
    reached = MEASURES[spec.loudness.measure](plan.predicted)
    return PriceDrawing(
        path="".join(f"{'L' if n else 'M'}{x(each.depth_db)} {y(each.level)}" for n, each in enumerate(known)),
        dots=tuple(
            (
                x(each.depth_db),
                y(each.level),
                f"{figure(each.depth_db)} dB of limiting, {100 * each.share_ratio:.1f} % of the time: "
                f"{figure(each.level)} {unit}",
            )
            for each in known
        ),
        x_ticks=tuple((x(depth), str(depth)) for depth in range(0, round(DEEPEST_DB) + 1, TICK_DB)),
        y_ticks=tuple(
            (y(level), figure(float(level), 0))
            for level in range(math.ceil(lowest / step) * step, math.floor(highest) + 1, step)
        ),
        band_y=y(target + tolerance),
        band_height=round(y(target - tolerance) - y(target + tolerance), 1),
        allowed_x=None if allowed is None else x(allowed),
        now=(x(plan.limiting_db), y(reached)) if math.isfinite(reached) and reached >= lowest else None,
        target_y=y(target),
        level_at_top=highest + TOP * (highest - lowest) / (HEIGHT - TOP - FOOT),
        level_per_pixel=(highest - lowest) / (HEIGHT - TOP - FOOT),
        says=_gain_of_depth(known, unit),
    )


def _gain_of_depth(known: Sequence[Price], unit: str) -> str:
    """What the first and the last decibels of limiting bring."""
    first = known[min(3, len(known) - 1)]
    return (
        f"The first {figure(first.depth_db, 0)} dB of limiting bring {figure(first.level - known[0].level)} LU; "
        f"{figure(known[-1].depth_db, 0)} dB reach {figure(known[-1].level)} {unit}."
    )
