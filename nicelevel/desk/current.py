"""What is handed over of a job: proved, of the versions that count, as it would be made today."""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from nicelevel.core.errors import NiceLevelError
from nicelevel.core.plan.formats import left_out
from nicelevel.core.specs.format_words import format_name
from nicelevel.core.specs.retarget import with_target
from nicelevel.core.values import Plan
from nicelevel.store.audio import AudioFolder
from nicelevel.store.deliverables import KEPT_FILES, UNFINISHED, deliverables_of
from nicelevel.store.jobs import destinations_of
from nicelevel.store.models import Deliverable, Destination, Source
from nicelevel.store.own_targets import own_targets_of
from nicelevel.store.specs import spec_of

from .contents import contents_of, described_of
from .planning import digest_of_plan, plans_of
from .roll import counting_sources

SAME_GAIN_DB = 0.005
"""Of what was written before plans had digests."""

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
    """Whether what was written is what would be written now: with the same steps, gain, limiter and output.

    plans: of its place; None where none can be made now. What is still to be written is always as planned.
    """
    if plans is None:
        return True
    planned = next((each for each in plans if each.output.key == made.output), None)
    if planned is None:
        # What failed, or was written, in a format that is not asked for any more says nothing of today.
        return made.state in UNFINISHED
    if made.state not in KEPT_FILES:
        return True
    if made.plan is None:
        return False
    if made.plan_digest is None:
        asked_db = made.plan.get("asked_gain_db", made.plan["gain_db"])
        # There were no recipes then.
        is_by_recipe = bool(contents_of(made.source).then(spec_of(made.spec)).recipe)
        return bool(abs(asked_db - planned.gain_db) < SAME_GAIN_DB and not is_by_recipe)
    return bool(made.plan_digest == digest_of_plan(made.source, planned))


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


def _made(job_id: int) -> dict[tuple[int, int, str], Deliverable]:
    return {(each.source_id, each.destination_id, each.output): each for each in deliverables_of(job_id)}


def _absent(
    source: Source,
    destination: Destination,
    own: OwnTargets,
    made: dict[tuple[int, int, str], Deliverable],
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
    described = described_of(contents_of(source).then(spec), audio)
    for wanted, refusal in left_out(described, spec):
        yield Absent(source.title, f"{spec.spec.name}, {format_name(wanted)}", refusal.message)
    for plan in plans:
        reason = _why_absent(made.get((source.id, destination.id, plan.output.key)), plans, plan)
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
        return "It was rendered by another plan than today's; render it again."
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
