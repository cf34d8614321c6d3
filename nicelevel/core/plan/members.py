"""Plans of the members of a set, from those of its leader: tracks of an album, parts of a sum."""

from collections.abc import Iterator, Sequence
from contextlib import suppress
from dataclasses import dataclass, replace

from ..errors import UnsupportedError
from ..prepare import MeasuredOf, recipe_for
from ..specs import Spec
from ..steps import Found
from ..values import Plan, Source
from .formats import format_behind, in_one_file, left_out, outputs_of
from .limit import limited_by
from .per_channel import channel_plans
from .sets import member_plan, track_plan


@dataclass(frozen=True)
class Leader:
    """What a set is levelled by. measured_of: gives its prepared signals; plans: its own for the spec."""

    source: Source
    measured_of: MeasuredOf
    plans: tuple[Plan, ...]
    title: str

    @property
    def found(self) -> tuple[Found | None, ...]:
        """What each step of its recipe found in it."""
        return tuple(each.found for each in self.plans[0].chain.done[: len(self.source.recipe)])


def track_plans(source: Source, measured_of: MeasuredOf, spec: Spec, leader: Leader) -> tuple[Plan, ...]:
    """With the gain of an album and a limiter of its own. Raises as `core.plan.plans`."""
    found: list[Plan] = []
    one_file = in_one_file(spec)
    wholes = {format_behind(leader.source, spec, each.output): each.shown for each in leader.plans}
    for wanted, led in wholes.items():
        with suppress(UnsupportedError):
            outputs = outputs_of(source, wanted, spec)
            whole = outputs[0].of_all_channels
            measured = measured_of(recipe_for(source, whole, spec))
            made = track_plan(measured, one_file, whole, led, leader.title)
            found += (made,) if outputs == (whole,) else channel_plans(source, measured_of, spec, made, outputs)
    return _some(found, source, spec)


def part_plans(source: Source, measured_of: MeasuredOf, spec: Spec, leader: Leader) -> tuple[Plan, ...]:
    """With the gain and the curve of the leader of a sum. Raises as `core.plan.plans`."""
    return _some(list(_parts(source, measured_of, spec, leader)), source, spec)


def _parts(source: Source, measured_of: MeasuredOf, spec: Spec, leader: Leader) -> Iterator[Plan]:
    for led in leader.plans:
        # Not by number: of the first format that fits there is one plan only.
        wanted = format_behind(leader.source, spec, led.output)
        with suppress(UnsupportedError):
            outputs = outputs_of(source, wanted, spec)
            output = next(each for each in outputs if each.channel == led.output.channel)
            measured = measured_of(recipe_for(source, output, spec))
            leaders = limited_by(leader.measured_of(led.recipe_of_programme), led)
            made = member_plan(measured, spec, output, led, leaders, leader.title)
            if led.programme:
                whole = output.of_all_channels
                together = measured_of(recipe_for(source, whole, spec))
                programme = member_plan(together, in_one_file(spec), whole, led.programme, leaders, leader.title)
                made = replace(made, programme=programme)
            yield made


def _some(found: Sequence[Plan], source: Source, spec: Spec) -> tuple[Plan, ...]:
    if not found:
        raise next((error for _, error in left_out(source, spec)), UnsupportedError("It has another layout."))
    return tuple(found)
