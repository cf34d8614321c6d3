"""Solve how a source lands at a destination: as it is, by gain, or not at all by gain.

Gain is the only means of this version. All limits are solved together: the target, its tolerance, every
ceiling that a gain moves, and full scale where the deliverable is fixed point.
"""

import math
from dataclasses import dataclass, replace

from ..errors import UnsupportedError
from ..measure.gating import gain_to_reach, gating_blocks
from ..specs import Spec, judge, level_findings
from ..specs.judge import MEASURES, named_limits
from ..specs.spec import Format
from ..units import db_from_ratio
from ..values import Action, OutputFormat, Plan, Reading
from .formats import resolve_format, word_length_falls
from .predict import after_gain, in_format
from .reasons import reasons_for

CEILING_MARGIN_DB = 0.01
"""A gain that goes to a ceiling stays this far under it: room for dither and for the last rounding."""

DITHER_PEAK_STEPS = 2
"""Rounding and TPDF dither together can add this many steps to a sample."""


@dataclass(frozen=True)
class GainRange:
    """Gains in dB that meet a spec: from `low` to `high`; `wanted` hits the target itself.

    `ceiling` names the rule that sets `high`, None where the tolerance does.
    """

    low: float
    wanted: float
    high: float
    ceiling: str | None


def plans(reading: Reading, spec: Spec) -> tuple[Plan, ...]:
    """A plan for each format that the spec asks for; the first is the one that a board shows.

    With `first_that_fits` only the first format whose plan meets every rule, or the first of all.
    """
    if spec.output.metadata != "none":
        raise UnsupportedError("Metadata cannot be carried over yet; a spec with none of it can be met.")
    candidates = [plan(reading, spec, candidate) for candidate in spec.formats]
    if spec.output.pick == "all":
        return tuple(candidates)
    return (next((each for each in candidates if each.action != "cannot_meet"), candidates[0]),)


def plan(reading: Reading, spec: Spec, candidate: Format | None = None) -> Plan:
    """How one source lands at one destination in one format (the spec's first by default).

    Raises UnsupportedError where this version cannot write the format from this source.
    """
    output = resolve_format(reading.source, candidate or spec.formats[0])
    allowed = gain_range(reading, spec, output)
    action, gain_db = _choose(reading, spec, output, allowed)
    predicted = in_format(after_gain(reading, gain_db), output)
    verdict = judge(predicted, spec)
    if not verdict.meets:
        action = "cannot_meet"
    dithers = output.dither != "none" and word_length_falls(reading.bits_used, output, gain_db)
    draft = Plan(action, gain_db, 0.0, predicted, verdict, (), output, dithers)
    return replace(draft, reasons=reasons_for(reading, spec, draft, allowed.ceiling))


def gain_range(reading: Reading, spec: Spec, output: OutputFormat) -> GainRange:
    """Every gain that meets target and ceilings together; empty (low over high) where none does."""
    low, wanted, high = _target_range(reading, spec)
    ceiling = None
    for name, room_db in _rooms(reading, spec, output):
        if room_db < high:
            high, ceiling = room_db, name
    return GainRange(low, wanted, high, ceiling)


def _target_range(reading: Reading, spec: Spec) -> tuple[float, float, float]:
    if spec.loudness is None:
        return -math.inf, 0.0, math.inf
    target, tolerance = spec.loudness.target_for(reading.source.channels), spec.loudness.tolerance
    level = MEASURES[spec.loudness.measure](reading)
    if math.isinf(level):
        return math.inf, math.inf, math.inf
    if spec.loudness.measure != "integrated":
        return target - tolerance - level, target - level, target + tolerance - level
    blocks = gating_blocks(reading.curves.energies)
    low, wanted, high = (gain_to_reach(blocks, target + off) for off in (-tolerance, 0.0, tolerance))
    return low, wanted, high


def _rooms(reading: Reading, spec: Spec, output: OutputFormat) -> list[tuple[str, float]]:
    """How far the level may rise under each ceiling."""
    rooms = []
    for limit, required in named_limits(spec):
        found = limit.figure(reading)
        if limit.moved_by_gain and found is not None and math.isfinite(found):
            rooms.append((limit.key, required - CEILING_MARGIN_DB - found))
    if output.bits is not None and math.isfinite(reading.sample_peak_dbfs):
        largest = 1.0 - DITHER_PEAK_STEPS * 2.0 ** (1 - output.bits)
        rooms.append(("full_scale", db_from_ratio(largest) - reading.sample_peak_dbfs))
    return rooms


def _choose(reading: Reading, spec: Spec, output: OutputFormat, allowed: GainRange) -> tuple[Action, float]:
    fits_full_scale = output.bits is None or reading.sample_peak_dbfs <= 0.0
    if fits_full_scale and all(finding.meets for finding in level_findings(reading, spec)):
        return "as_is", 0.0
    if math.isinf(allowed.low) and allowed.low > 0.0:
        return "cannot_meet", 0.0
    gain_db = min(allowed.wanted, allowed.high)
    return ("gain" if gain_db >= allowed.low else "cannot_meet"), gain_db
