"""What is handed over of a job: proved, of the versions that count, as it would be made today."""

from nicelevel.core.errors import NiceLevelError
from nicelevel.core.values import Plan

from .audio import AudioFolder
from .deliverables import deliverables_of
from .models import Deliverable
from .own_targets import own_targets_of, with_target
from .planning import plans_of
from .specs import spec_of
from .versions import counting_sources

SAME_GAIN_DB = 0.005


def current_deliverables(job_id: int, audio: AudioFolder) -> list[Deliverable]:
    """Proved deliverables of sources that count, made for the present version of their spec with today's gain."""
    counting = {each.id for each in counting_sources(job_id, audio)}
    own = own_targets_of(job_id)
    return [
        each
        for each in deliverables_of(job_id, ["proved"])
        if each.source_id in counting
        if is_of_present_spec(each)
        if is_planned_so(each, _plan_of(each, own, audio))
    ]


def is_of_present_spec(made: Deliverable) -> bool:
    """Whether its destination still asks for what it was made for."""
    return bool(made.spec_id == made.destination.spec_id)


def is_planned_so(made: Deliverable, plan: Plan | None) -> bool:
    """Whether what was written has the gain that is planned now: a source that joined a set has another."""
    if made.plan is None or plan is None:
        return True
    return abs(made.plan.get("asked_gain_db", made.plan["gain_db"]) - plan.gain_db) < SAME_GAIN_DB


def _plan_of(made: Deliverable, own: dict[tuple[int, int], float], audio: AudioFolder) -> Plan | None:
    """The first plan of its place, as the board compares it; None where none can be made now."""
    source = made.source
    target = own.get((source.leader_id or source.id, made.destination_id))
    try:
        return plans_of(source, with_target(spec_of(made.destination.spec), target), audio)[0]
    except NiceLevelError:
        return None
