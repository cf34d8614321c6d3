"""What is handed over of a job: proved, of the versions that count, as it would be made today."""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from nicelevel.core.errors import NiceLevelError
from nicelevel.core.plan.formats import left_out
from nicelevel.core.specs.format_words import format_name
from nicelevel.core.values import Plan

from .audio import AudioFolder
from .deliverables import deliverables_of
from .jobs import destinations_of
from .models import Deliverable, Destination, Source
from .own_targets import own_targets_of, with_target
from .planning import plans_of
from .readings import load_figures
from .specs import spec_of
from .versions import counting_sources

SAME_GAIN_DB = 0.005

OwnTargets = dict[tuple[int, int], float]


@dataclass(frozen=True)
class Absent:
    """A file that belongs to a job's package and is not in it, and why."""

    title: str
    destination: str
    reason: str


def current_deliverables(job_id: int, audio: AudioFolder) -> list[Deliverable]:
    """Proved deliverables of sources that count, made for the present version of their spec with today's gain."""
    counting = {each.id for each in counting_sources(job_id, audio)}
    own = own_targets_of(job_id)
    return [
        each
        for each in deliverables_of(job_id, ["proved"])
        if each.source_id in counting
        if is_of_present_spec(each)
        if is_as_planned(each, _plans_or_none(each.source, each.destination, own, audio))
    ]


def is_of_present_spec(made: Deliverable) -> bool:
    """Whether its destination still asks for what it was made for."""
    return bool(made.spec_id == made.destination.spec_id)


def is_as_planned(made: Deliverable, plans: Sequence[Plan] | None) -> bool:
    """Whether what was written has the gain that is planned for its format now: a member of a set has another.

    plans: of its place, in the order of the formats; None where none can be made now. Each format has a gain of its
    own, for another rate has another loudness by a trifle.
    """
    if made.plan is None or plans is None:
        return True
    if made.format_number >= len(plans):
        return False
    planned_db = plans[made.format_number].gain_db
    return bool(abs(made.plan.get("asked_gain_db", made.plan["gain_db"]) - planned_db) < SAME_GAIN_DB)


def absent_files(job_id: int, audio: AudioFolder) -> list[Absent]:
    """What belongs to the package of a job as it stands, and is not in it: the package says so itself."""
    own, made, counting = own_targets_of(job_id), _made(job_id), counting_sources(job_id, audio)
    return [
        absent
        for destination in destinations_of(job_id)
        for source in counting
        if source.kind != "sum"
        for absent in _absent(source, destination, own, made, audio)
    ]


def _made(job_id: int) -> dict[tuple[int, int, int], Deliverable]:
    return {(each.source_id, each.destination_id, each.format_number): each for each in deliverables_of(job_id)}


def _absent(
    source: Source,
    destination: Destination,
    own: OwnTargets,
    made: dict[tuple[int, int, int], Deliverable],
    audio: AudioFolder,
) -> Iterator[Absent]:
    spec = spec_of(destination.spec)
    if source.state != "measured":
        reason = source.error_message if source.state == "failed" else "It is not measured yet."
        yield Absent(source.title, spec.spec.name, str(reason))
        return
    try:
        plans = _plans(source, destination, own, audio)
    except NiceLevelError as error:
        yield Absent(source.title, spec.spec.name, error.message)
        return
    described = load_figures(source.digest, audio).source
    for wanted, refusal in left_out(described, spec):
        yield Absent(source.title, f"{spec.spec.name}, {format_name(wanted)}", refusal.message)
    for number, plan in enumerate(plans):
        reason = _why_absent(made.get((source.id, destination.id, number)), plans, plan)
        if reason:
            # Its kind of file is said where the spec asks for several.
            kind = f", {plan.output.container} {plan.output.sample_rate_hz} Hz" if len(plans) > 1 else ""
            yield Absent(source.title, f"{spec.spec.name}{kind}", reason)


def _why_absent(made: Deliverable | None, plans: Sequence[Plan], plan: Plan) -> str:
    """Nothing where the file is in the package."""
    if plan.action == "cannot_meet":
        return " ".join(plan.reasons[:2])
    if made is None or made.state == "stopped":
        return "It is not rendered yet."
    if made.state in ("queued", "rendering"):
        return "It is being rendered."
    if made.state == "failed":
        return str(made.error_message)
    if not is_of_present_spec(made):
        return "It was rendered for an earlier version of its spec; render it again."
    if made.state == "missed":
        return "What was written misses its spec."
    if not is_as_planned(made, plans):
        return "It was rendered with another gain than is planned now; render it again."
    return ""


def _plans(source: Source, destination: Destination, own: OwnTargets, audio: AudioFolder) -> tuple[Plan, ...]:
    target = own.get((source.leader_id or source.id, destination.id))
    return plans_of(source, with_target(spec_of(destination.spec), target), audio)


def _plans_or_none(
    source: Source, destination: Destination, own: OwnTargets, audio: AudioFolder
) -> tuple[Plan, ...] | None:
    try:
        return _plans(source, destination, own, audio)
    except NiceLevelError:
        return None
