"""The vial: where the source stands and where the deliverable lands, as places along a capsule.

A capsule with two lines, the tolerance; hollow bubble: the source; solid: the deliverable. Left is too quiet,
right too loud. A file that was proved closes the capsule at both ends.
"""

import math
from dataclasses import dataclass
from typing import Any, Literal

from nicelevel.core.specs.judge import MEASURES
from nicelevel.core.specs.rules import RULES
from nicelevel.core.specs.spec import Spec
from nicelevel.core.values import Action, Plan, Reading

WIDTH = 150
CENTRE = WIDTH / 2
LINE_X = 17.0
"""Distance of each tolerance line from the centre."""

_INSIDE_X, _OUTSIDE_X, _REACH_X = 11.5, 22.0, 46.0
_SOFT_LU = 7.0
"""Outside the tolerance distances are drawn ever closer, so that any level finds its place."""

KEY_OF_MEASURE = {measure: RULES[measure].figure for measure in MEASURES}
"""Where the JSON of a reading has what a spec's target is measured by."""

Seal = Literal["proved", "missed"] | None


@dataclass(frozen=True)
class Vial:
    """What is drawn. Places are in pixels from the left; None where there is no such bubble."""

    action: Action
    source_x: float | None
    landing_x: float
    has_target: bool
    seal: Seal = None


def draw_vial(
    reading: Reading, plan: Plan, spec: Spec, proved: dict[str, Any] | None = None, seal: Seal = None
) -> Vial:
    """The vial of a source at a destination: it lands where it was proved to, else where it is planned to.

    `proved` is the JSON of the written file's reading.
    """
    if spec.loudness is None:
        return Vial(plan.action, None, CENTRE, False, seal)
    measure, key = MEASURES[spec.loudness.measure], KEY_OF_MEASURE[spec.loudness.measure]
    target, tolerance = spec.loudness.target_for(reading.source.channels), spec.loudness.tolerance
    landing = measure(plan.predicted) if proved is None else proved[key]
    distance_lu = -math.inf if landing is None else landing - target
    level = measure(reading)
    source_x = None if math.isinf(level) else place(level - target, tolerance)
    return Vial(plan.action, source_x, place(distance_lu, tolerance), True, seal)


def place(distance_lu: float, tolerance_lu: float) -> float:
    """Where a level stands that is so far from the target: linear inside the tolerance, ever closer outside."""
    if math.isinf(distance_lu) or math.isnan(distance_lu):
        return CENTRE - _OUTSIDE_X - _REACH_X
    size = abs(distance_lu)
    if size <= tolerance_lu:
        offset = _INSIDE_X * size / tolerance_lu if tolerance_lu else 0.0
    else:
        offset = _OUTSIDE_X + _REACH_X * (1.0 - math.exp(-(size - tolerance_lu) / _SOFT_LU))
    return round(CENTRE + math.copysign(offset, distance_lu), 1)
