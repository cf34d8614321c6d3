"""Plans of sources as they stand in a job: alone, or as members of a set. Remembered, for nothing of them changes."""

from dataclasses import replace
from functools import lru_cache

from nicelevel.core.errors import NotPreparedError
from nicelevel.core.plan import plans
from nicelevel.core.plan.identity import plan_digest
from nicelevel.core.plan.limiter import Limited
from nicelevel.core.plan.members import Leader, part_plans, track_plans
from nicelevel.core.plan.per_channel import limited_of_plan
from nicelevel.core.prepare import MeasuredOf
from nicelevel.core.recipes.recipe import softened
from nicelevel.core.specs import Spec
from nicelevel.core.specs.retarget import with_target
from nicelevel.core.values import Plan, Reading
from nicelevel.core.values import Source as Described
from nicelevel.store.audio import AudioFolder
from nicelevel.store.models import Destination, Source
from nicelevel.store.own_targets import own_target_of
from nicelevel.store.specs import spec_of

from .contents import Contents, contents_of, described_of, sum_leader_of
from .prepared import load_prepared, prepared_signals

PLANS_REMEMBERED = 40_000
"""Of 5,000 sources at six destinations, and some: counting over a board asks for all plans again and again."""

LIMITED_REMEMBERED = 16
"""Plans whose limiting stays in memory, for who hears them asks for it every second: some megabytes an hour each."""


def spec_at(source: Source, destination: Destination) -> Spec:
    """The spec of a destination, with the target that a source, or the leader of its set, has there."""
    return with_target(spec_of(destination.spec), own_target_of(source, destination))


def plans_of(source: Source, spec: Spec, audio: AudioFolder) -> tuple[Plan, ...]:
    """The plan of a source for each format of a spec. Raises as `core.plan.plans`."""
    spec = softened(spec, (sum_leader_of(source) or source).soft_db)
    contents = contents_of(source).then(spec)
    if source.leader_id is None:
        return _alone(contents, spec, audio)
    leader = source.leader
    planned = _as_track if leader.set_kind == "album" else _as_part
    return planned(contents, contents_of(leader).then(spec), leader.title, spec, audio)


def with_level_of_speech(reading: Reading, contents: Contents, plan: Plan, audio: AudioFolder) -> Reading:
    """The reading of a source with the level of what is spoken in it, where its plan listened for that."""
    if plan.predicted.dialogue_lufs is None:
        return reading
    prepared = load_prepared(contents, plan.chain.recipe, audio)
    return replace(reading, dialogue_lufs=prepared.reading.dialogue_lufs)


def digest_of_plan(source: Source, plan: Plan) -> str:
    """What tells this plan of a source from any other."""
    takes_curve = plan.curve_of is not None and source.leader_id is not None
    return plan_digest(plan, source.digest, source.leader.digest if takes_curve else None)


def limited_of(source: Source, plan: Plan, audio: AudioFolder) -> Limited | None:
    """What the limiter of a plan makes of a source; None where none works."""
    if plan.limiting is None:
        return None
    shares_curve = source.leader_id is not None and source.leader.set_kind != "album"
    return _limited(contents_of(source), contents_of(source.leader) if shares_curve else None, plan, audio)


@lru_cache(maxsize=LIMITED_REMEMBERED)
def _limited(contents: Contents, leader: Contents | None, plan: Plan, audio: AudioFolder) -> Limited | None:
    return limited_of_plan(
        plan, prepared_signals(contents, audio), prepared_signals(leader, audio) if leader else None
    )


@lru_cache(maxsize=PLANS_REMEMBERED)
def _alone(contents: Contents, spec: Spec, audio: AudioFolder) -> tuple[Plan, ...]:
    return plans(*_asked(contents, spec, audio))


@lru_cache(maxsize=PLANS_REMEMBERED)
def _as_track(contents: Contents, leader: Contents, title: str, spec: Spec, audio: AudioFolder) -> tuple[Plan, ...]:
    return track_plans(*_asked(contents, spec, audio), _leader(leader, title, spec, audio))


@lru_cache(maxsize=PLANS_REMEMBERED)
def _as_part(contents: Contents, leader: Contents, title: str, spec: Spec, audio: AudioFolder) -> tuple[Plan, ...]:
    return part_plans(*_asked(contents, spec, audio), _leader(leader, title, spec, audio))


def _asked(contents: Contents, spec: Spec, audio: AudioFolder) -> tuple[Described, MeasuredOf, Spec]:
    try:
        return described_of(contents, audio), prepared_signals(contents, audio), spec
    except NotPreparedError:
        load_prepared(contents, contents.recipe, audio)  # which says why it is not there
        raise


def _leader(contents: Contents, title: str, spec: Spec, audio: AudioFolder) -> Leader:
    described, measured_of, _ = _asked(contents, spec, audio)
    return Leader(described, measured_of, _alone(contents, spec, audio), title)
