"""Solve how a source lands at a destination: as it is, by gain, by a limiter where that is allowed, or not.

All limits are solved together: the target, its tolerance, every ceiling that a gain moves, and full scale where the
deliverable is fixed point. Gain is always preferred; what a limiter has to do is solved by `limit.py`.
"""

import math
from dataclasses import dataclass, replace

from ..errors import UnsupportedError
from ..measure.hop_peaks import KEPT_DB
from ..prepare import Measured, MeasuredOf, recipe_for
from ..specs import Spec, judge, level_findings
from ..specs.format_words import format_name
from ..specs.spec import Format
from ..values import Action, Limiting, OutputFormat, Plan, Reading, Source
from .formats import dithers, in_one_file, left_out, outputs_of, resolve_format
from .gain import GainRange, gain_range, in_steps_db
from .limit import HELD_BY_LIMITER, LIMITED_MEASURES, limit_to_target
from .per_channel import channel_plans
from .predict import after_gain, after_limiting, in_format
from .reasons import misses, reasons_for


@dataclass(frozen=True)
class _Landing:
    """Where a programme is brought, before its format is looked at; `needed_db` is the limiting that the target needs
    where the spec does not allow so much."""

    action: Action
    gain_db: float
    predicted: Reading
    limiting: Limiting | None = None
    needed_db: float | None = None


def plans(source: Source, measured_of: MeasuredOf, spec: Spec) -> tuple[Plan, ...]:
    """A plan for each format that the spec asks for; the first is the one that a board shows.

    With `first_that_fits` only the first format whose plan meets every rule, or the first of all; its reasons say why
    those before it were passed over. A format that cannot be made from this source is left out, and the first plan
    says so. Raises UnsupportedError where none can be made, and what `measured_of` raises.
    """
    if spec.output.pick == "all":
        without = left_out(source, spec)
        refused = [candidate for candidate, _ in without]
        possible = [candidate for candidate in spec.formats if candidate not in refused]
        if not possible:
            raise without[0][1]
        each = ((candidate, plan(source, measured_of, spec, candidate)) for candidate in possible)
        made = [made for candidate, whole in each for made in _in_files(source, measured_of, spec, candidate, whole)]
        said = tuple(f"{format_name(candidate)} is not written: {error.message}" for candidate, error in without)
        return (_saying(made[0], said), *made[1:])
    return _in_files(source, measured_of, spec, *_first_that_fits(source, measured_of, spec))


def _saying(plan: Plan, more: tuple[str, ...]) -> Plan:
    """A plan with more reasons, where it is a channel's also its programme's."""
    programme = _saying(plan.programme, more) if plan.programme else None
    return replace(plan, reasons=(*plan.reasons, *more), programme=programme) if more else plan


def _in_files(
    source: Source, measured_of: MeasuredOf, spec: Spec, candidate: Format, whole: Plan
) -> tuple[Plan, ...]:
    """The plan of a programme in one file as those of the files that its format asks for."""
    outputs = outputs_of(source, candidate, spec)
    return (whole,) if outputs == (whole.output,) else channel_plans(source, measured_of, spec, whole, outputs)


def _first_that_fits(source: Source, measured_of: MeasuredOf, spec: Spec) -> tuple[Format, Plan]:
    first: tuple[Format, Plan] | UnsupportedError | None = None
    passed: list[str] = []
    for candidate in spec.formats:
        try:
            found = plan(source, measured_of, spec, candidate)
        except UnsupportedError as error:
            first, why = first or error, error.message
        else:
            if found.action != "cannot_meet":
                return candidate, replace(found, reasons=(*found.reasons, *passed))
            first, why = first or (candidate, found), " ".join(misses(found) or found.reasons[:1])
        passed.append(f"{format_name(candidate)} was passed over: {why}")
    if isinstance(first, UnsupportedError):
        raise first
    assert first
    return first


def plan(source: Source, measured_of: MeasuredOf, spec: Spec, candidate: Format | None = None) -> Plan:
    """How one source lands at one destination in one format (the spec's first by default). Raises as `plans`."""
    output = resolve_format(source, candidate or spec.formats[0], spec)
    measured = measured_of(recipe_for(source, output, spec))
    reading = measured.reading
    allowed = gain_range(measured, spec, output)
    landing = _land(measured, spec, output, allowed)
    predicted = in_format(measured, landing.predicted, output, landing.gain_db)
    verdict = judge(predicted, in_one_file(spec))
    action = landing.action if verdict.meets else "cannot_meet"
    draft = Plan(
        action,
        landing.gain_db,
        landing.limiting,
        predicted,
        verdict,
        (),
        output,
        measured.chain,
        dithers(reading.bits_used, output, landing.gain_db),
    )
    return replace(draft, reasons=reasons_for(source, reading, spec, draft, allowed, landing.needed_db))


def _may_limit(spec: Spec, allowed: GainRange) -> bool:
    """Whether a limiter is allowed and could help: a peak is in the way of a level that it can raise."""
    wanted = spec.loudness is not None and spec.loudness.measure in LIMITED_MEASURES
    return wanted and spec.method.allow == "limiter" and allowed.ceiling in HELD_BY_LIMITER


def _land(measured: Measured, spec: Spec, output: OutputFormat, allowed: GainRange) -> _Landing:
    reading = measured.reading
    fits_full_scale = output.bits is None or reading.sample_peak_dbfs <= 0.0
    if fits_full_scale and all(finding.meets for finding in level_findings(reading, spec)):
        return _Landing("as_is", 0.0, after_gain(measured, 0.0))
    if math.isinf(allowed.low) and allowed.low > 0.0:
        return _Landing("cannot_meet", 0.0, after_gain(measured, 0.0))
    gain_db = min(allowed.wanted, allowed.high)
    if output.in_steps:
        gain_db = in_steps_db(allowed)
    if gain_db >= allowed.low:
        return _Landing("gain", gain_db, after_gain(measured, gain_db))
    if _may_limit(spec, allowed) and measured.hops:
        found = limit_to_target(measured, spec, allowed.ceilings_db, allowed.wanted)
        predicted = after_limiting(measured, found.gain_db, found.limited)
        if found.meets:
            return _Landing("limit", found.gain_db, predicted, found.limiting())
        needed = limit_to_target(measured, spec, allowed.ceilings_db, allowed.wanted, KEPT_DB)
        needed_db = needed.limited.depth_db if needed.meets else None
        return _Landing("cannot_meet", found.gain_db, predicted, found.limiting(), needed_db)
    return _Landing("cannot_meet", gain_db, after_gain(measured, gain_db))
