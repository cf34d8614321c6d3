"""What may be rendered, by which plan, and the order that core is given for it."""

from contextlib import suppress

from nicelevel.core.errors import NiceLevelError, UnsupportedError
from nicelevel.core.plan.sets import judged_by
from nicelevel.core.produce import Order, Planned
from nicelevel.core.signals import Signal
from nicelevel.core.specs import Spec
from nicelevel.core.specs.retarget import with_target
from nicelevel.core.values import Plan
from nicelevel.store.audio import AudioFolder
from nicelevel.store.deliverables import unfinished_of
from nicelevel.store.models import Deliverable, Source
from nicelevel.store.own_targets import own_target_of
from nicelevel.store.sets import members_of
from nicelevel.store.specs import spec_of

from .contents import contents_of, described_of
from .planning import limited_of, plans_of
from .prepared import prepared_signals


def plans_to_render(source: Source, spec: Spec, audio: AudioFolder) -> list[Plan]:
    """The plans of a source that can meet a spec. Raises as `core.plan.plans`."""
    return [plan for plan in plans_of(source, spec, audio) if plan.action != "cannot_meet"]


def planned_for(deliverable: Deliverable, audio: AudioFolder) -> tuple[Spec, Plan]:
    """The spec that a deliverable is made for and its plan as it is now.

    Raises as `core.plan.plans`, and UnsupportedError where the spec asks for no such output.
    """
    source = deliverable.source
    spec = with_target(spec_of(deliverable.spec), own_target_of(source, deliverable.destination))
    planned = next((each for each in plans_of(source, spec, audio) if each.output.key == deliverable.output), None)
    if planned is None:
        raise UnsupportedError("The spec does not ask for this format any more.")
    return spec, planned


def is_signal_wanted_again(deliverable: Deliverable, plan: Plan, audio: AudioFolder) -> bool:
    """Whether another deliverable is to be made from the same prepared signal."""
    for other in unfinished_of(deliverable.source.digest):
        with suppress(NiceLevelError):
            of_other = planned_for(other, audio)[1].chain.programme
            if other.id != deliverable.id and of_other == plan.chain.programme:
                return True
    return False


def order_for(source: Source, spec: Spec, plan: Plan, audio: AudioFolder, kept: Signal | None) -> Order:
    """What core needs to make a deliverable. kept: the plan's prepared signal, where others share it."""

    def replan(tighter: Spec) -> Planned:
        planned = plans_of(source, tighter, audio)[0]
        return planned, limited_of(source, planned, audio)

    contents, is_member = contents_of(source), source.leader_id is not None
    return Order(
        audio.audio_path(source.digest),
        described_of(contents.then(spec), audio),
        spec,
        judged_by(spec, plan, is_member),
        (plan, limited_of(source, plan, audio)),
        prepared_signals(contents, audio),
        replan if plan.output.is_lossy and not is_member else None,
        kept,
        bool(members_of(source.id)),
    )
