"""Every gain that meets a spec: the target with its tolerance, and each ceiling that a gain moves toward."""

import math
from collections.abc import Mapping
from dataclasses import dataclass

from ..mp3.frames import STEP_DB
from ..prepare import Measured
from ..shaping import most_steps
from ..specs import Spec
from ..specs.judge import MEASURES, named_limits
from ..units import db_from_ratio
from ..values import OutputFormat, Reading

CEILING_MARGIN_DB = 0.01
"""A gain that goes to a ceiling stays this far under it: room for dither and for the last rounding."""


@dataclass(frozen=True)
class GainRange:
    """Gains in dB that meet a spec: from `low` to `high`; `wanted` hits the target itself.

    `ceiling` names the rule that sets `high`, None where the tolerance does; `ceilings_db` has all of them.
    """

    low: float
    wanted: float
    high: float
    ceiling: str | None
    ceilings_db: Mapping[str, float]


def gain_range(measured: Measured, spec: Spec, output: OutputFormat) -> GainRange:
    """Every gain that meets target and ceilings together; empty (low over high) where none does."""
    low, wanted, high = _target_range(measured, spec)
    ceiling, ceilings = None, _ceilings(measured.reading, spec, output)
    for name, required, found in ceilings:
        if required - found < high:
            high, ceiling = required - found, name
    return GainRange(low, wanted, high, ceiling, {name: required for name, required, _ in ceilings})


def in_steps_db(allowed: GainRange) -> float:
    """The whole steps that come nearest to the target and pass no ceiling, in dB."""
    wanted = min(allowed.wanted, allowed.high)
    steps = round(wanted / STEP_DB) if math.isfinite(wanted) else 0
    while steps * STEP_DB > allowed.high and math.isfinite(allowed.high):
        steps -= 1
    return steps * STEP_DB


def _target_range(measured: Measured, spec: Spec) -> tuple[float, float, float]:
    if spec.loudness is None:
        return -math.inf, 0.0, math.inf
    reading = measured.reading
    target, tolerance = spec.loudness.target_for(reading.source.channels), spec.loudness.tolerance
    level = MEASURES[spec.loudness.measure](reading)
    if math.isinf(level):
        return math.inf, math.inf, math.inf
    by_blocks = {"integrated": measured.blocks, "dialogue": measured.spoken_blocks}.get(spec.loudness.measure)
    if by_blocks is None:
        return target - tolerance - level, target - level, target + tolerance - level
    low, wanted, high = (by_blocks.gain_to_reach(target + off) for off in (-tolerance, 0.0, tolerance))
    return low, wanted, high


def _ceilings(reading: Reading, spec: Spec, output: OutputFormat) -> list[tuple[str, float, float]]:
    """Every ceiling that a gain moves the programme toward: its rule, where it is, and where the programme is."""
    ceilings = []
    for limit, required in named_limits(spec):
        found = limit.figure(reading)
        if limit.moved_by_gain and found is not None and math.isfinite(found):
            ceilings.append((limit.key, required - CEILING_MARGIN_DB, found))
    if output.bits is not None and math.isfinite(reading.sample_peak_dbfs):
        # The highest code is one step under full scale.
        steps = 1.0 + most_steps(output.dither, output.sample_rate_hz)
        largest = 1.0 - steps * 2.0 ** (1 - output.bits)
        ceilings.append(("full_scale", db_from_ratio(largest), reading.sample_peak_dbfs))
    return ceilings
