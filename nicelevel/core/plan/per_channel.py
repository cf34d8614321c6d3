"""A file per channel: one gain and one curve for all of them, found from the whole programme.

So the files put side by side are the programme at its level. One of them alone has no target; its ceilings stay.
"""

from collections.abc import Sequence
from dataclasses import replace

from ..prepare import MeasuredOf, recipe_for
from ..specs import Spec
from ..values import OutputFormat, Plan, Source
from .limit import limited_by
from .limiter import Limited
from .sets import limited_with, member_plan


def channel_plans(
    source: Source, measured_of: MeasuredOf, spec: Spec, whole: Plan, outputs: Sequence[OutputFormat]
) -> tuple[Plan, ...]:
    """The plan of each channel's file, from that of the programme in one file. Raises what `measured_of` raises."""
    limited = limited_by(measured_of(whole.chain.recipe), whole)
    made = []
    for output in outputs:
        measured = measured_of(recipe_for(source, output, spec))
        plan = member_plan(measured, spec, output, whole, limited, "the programme")
        made.append(replace(plan, reasons=_reasons(whole, plan), dithers=whole.dithers, programme=whole))
    return tuple(made)


def limited_of_plan(plan: Plan, measured_of: MeasuredOf, of_leader: MeasuredOf | None = None) -> Limited | None:
    """What the limiter of a plan makes of its prepared signal; None where nothing is limited.

    of_leader: gives the prepared signals of the set's leader, where the source is a member of one.
    """
    if plan.limiting is None:
        return None
    if plan.curve_of is None:
        return limited_by(measured_of(plan.chain.recipe), plan)
    limited = limited_by((of_leader or measured_of)(plan.curve_of), plan)
    return limited_with(measured_of(plan.chain.recipe), plan.gain_db, limited) if limited else None


def _reasons(whole: Plan, plan: Plan) -> tuple[str, ...]:
    if whole.action == "cannot_meet":
        return whole.reasons
    part_of = plan.output.part_of
    assert part_of
    first = f"{plan.output.channel_name} of {part_of.name}, in a file of its own: it is levelled as the programme is."
    if plan.action == "cannot_meet":
        return (first, "With that, this channel passes a limit of the spec.")
    return (first, *whole.reasons)
