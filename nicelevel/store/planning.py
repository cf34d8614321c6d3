"""Plans of sources as they stand in a job: alone, or as members of a set. Remembered, for nothing of them changes."""

from dataclasses import replace
from functools import lru_cache

from nicelevel.core.plan import plans
from nicelevel.core.plan.formats import format_behind, in_one_file, outputs_of
from nicelevel.core.plan.limit import limited_by
from nicelevel.core.plan.limiter import Limited
from nicelevel.core.plan.per_channel import channel_plans, limited_of_plan
from nicelevel.core.plan.sets import member_plan, track_plan
from nicelevel.core.prepare import preparation_for
from nicelevel.core.specs import Spec
from nicelevel.core.values import Plan

from .audio import AudioFolder
from .models import Source
from .prepared import load_prepared, prepared_signals
from .readings import load_figures

LIMITED_REMEMBERED = 16
"""Plans whose limiting stays in memory, for who hears them asks for it every second: some megabytes an hour each."""


def plans_of(source: Source, spec: Spec, audio: AudioFolder) -> tuple[Plan, ...]:
    """The plan of a source for each format of a spec. Raises as `core.plan.plans`."""
    if source.leader_id is None:
        return _alone(source.digest, spec, audio)
    leader = source.leader
    planned = _as_track if leader.set_kind == "album" else _as_part
    return planned(source.digest, leader.digest, leader.title, spec, audio)


def limited_of(source: Source, plan: Plan, audio: AudioFolder) -> Limited | None:
    """What the limiter of a plan makes of a source; None where none works."""
    if plan.limiting is None:
        return None
    shares_curve = source.leader_id is not None and source.leader.set_kind != "album"
    return _limited(source.digest, source.leader.digest if shares_curve else None, plan, audio)


@lru_cache(maxsize=LIMITED_REMEMBERED)
def _limited(digest: str, leader_digest: str | None, plan: Plan, audio: AudioFolder) -> Limited | None:
    leaders = prepared_signals(leader_digest, audio) if leader_digest else None
    return limited_of_plan(plan, prepared_signals(digest, audio), leaders)


@lru_cache(maxsize=8192)
def _alone(digest: str, spec: Spec, audio: AudioFolder) -> tuple[Plan, ...]:
    return plans(load_figures(digest, audio).source, prepared_signals(digest, audio), spec)


@lru_cache(maxsize=8192)
def _as_track(digest: str, leader_digest: str, leader_title: str, spec: Spec, audio: AudioFolder) -> tuple[Plan, ...]:
    """With the gain of an album and a limiter of its own."""
    described, leader_described = (load_figures(each, audio).source for each in (digest, leader_digest))
    find, one_file = prepared_signals(digest, audio), in_one_file(spec)
    wholes = {
        format_behind(leader_described, spec, leader.output): leader.shown
        for leader in _alone(leader_digest, spec, audio)
    }
    found: list[Plan] = []
    for wanted, leader in wholes.items():
        outputs = outputs_of(described, wanted, spec)
        whole = outputs[0].of_all_channels
        prepared = find(preparation_for(described, whole, spec))
        made = track_plan(prepared, one_file, whole, leader, leader_title)
        found += (made,) if outputs == (whole,) else channel_plans(described, find, spec, made, outputs)
    return tuple(found)


@lru_cache(maxsize=8192)
def _as_part(digest: str, leader_digest: str, leader_title: str, spec: Spec, audio: AudioFolder) -> tuple[Plan, ...]:
    """With the gain and the curve of the leader of a sum."""
    described, leader_described = (load_figures(each, audio).source for each in (digest, leader_digest))
    found = []
    for leader in _alone(leader_digest, spec, audio):
        # Not by number: of the first format that fits there is one plan only.
        wanted = format_behind(leader_described, spec, leader.output)
        outputs = outputs_of(described, wanted, spec)
        output = next(each for each in outputs if each.channel == leader.output.channel)
        steps = preparation_for(described, output, spec)
        leaders = limited_by(load_prepared(leader_digest, leader.preparation.of_all_channels, audio), leader)
        prepared = load_prepared(digest, steps, audio)
        made = member_plan(prepared, spec, output, leader, leaders, leader_title)
        if leader.programme:
            together = load_prepared(digest, steps.of_all_channels, audio)
            whole = output.of_all_channels
            programme = member_plan(together, in_one_file(spec), whole, leader.programme, leaders, leader_title)
            made = replace(made, programme=programme)
        found.append(made)
    return tuple(found)
