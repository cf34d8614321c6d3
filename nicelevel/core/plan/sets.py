"""Sets: sources that take one common gain, that of the set's leader.

Parts of a sum, such as the stems of a mix, take the leader's limiter curve too: so their sum stays the mix. Tracks of
an album take the gain alone, and each has a limiter of its own where the spec allows one: nobody hears them at once.
A member is not held to the target, which concerns the whole programme; its ceilings stay.
"""

import re
from collections import defaultdict
from collections.abc import Hashable, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import TypeVar

from ..prepare import Measured
from ..specs import Spec, judge
from ..values import Action, Limiting, OutputFormat, Plan, Reading, Source
from ..words import change, figure
from .formats import dithers
from .gain import gain_range
from .limit import HELD_BY_LIMITER, allowed_depth_db, envelope_of, limiter_for
from .limiter import Envelope, Limited
from .predict import after_gain, after_limiting, in_format

_MIX_WORDS = frozenset({"mix", "mixdown", "master", "full", "print"})


Key = TypeVar("Key", bound=Hashable)


@dataclass(frozen=True)
class Candidate:
    """A source that may belong to a set: its name without extension, and what must be equal."""

    key: Hashable
    name: str
    source: Source


@dataclass(frozen=True)
class ProposedSet:
    leader: Hashable
    members: tuple[Hashable, ...]


def propose_sets(candidates: Sequence[Candidate]) -> tuple[ProposedSet, ...]:
    """Sets told from names and equal lengths.

    The leader is the source whose name, less words such as "mix", begins the names of others of the same rate,
    length and channels. What fits nowhere stays alone.
    """
    alike: dict[Hashable, list[Candidate]] = defaultdict(list)
    for each in candidates:
        alike[each.source.sample_rate_hz, each.source.frames, each.source.layout.positions].append(each)
    found: list[ProposedSet] = []
    taken: set[Hashable] = set()
    for group in alike.values():
        words = {each.key: _words(each.name) for each in group}
        going_on = _by_beginning(words)
        for leader in sorted(group, key=lambda each: len(words[each.key])):
            stem = tuple(word for word in words[leader.key] if word not in _MIX_WORDS)
            members = tuple(key for key in going_on.get(stem, ()) if key != leader.key and key not in taken)
            if members and leader.key not in taken:
                found.append(ProposedSet(leader.key, members))
                taken |= {leader.key, *members}
    return tuple(found)


def loudest(readings: Mapping[Key, Reading]) -> Key:
    """The source that a set is levelled by where it has no mix: the one of the highest integrated loudness."""
    return max(readings, key=lambda key: readings[key].integrated_lufs)


def _words(name: str) -> tuple[str, ...]:
    return tuple(re.findall(r"[^\W_]+", name.lower()))


def _by_beginning(words: Mapping[Hashable, tuple[str, ...]]) -> dict[tuple[str, ...], list[Hashable]]:
    """Whose names go on where another may end: by every beginning of them, in order."""
    found: dict[tuple[str, ...], list[Hashable]] = defaultdict(list)
    for key, name in words.items():
        for length in range(1, len(name)):
            found[name[:length]].append(key)
    return found


def as_member(spec: Spec) -> Spec:
    """What a spec demands of a member of a set: all but the target."""
    return spec.model_copy(update={"loudness": None})


def judged_by(spec: Spec, plan: Plan, is_member: bool = False) -> Spec:
    """What the file of a plan is held to; neither a member of a set nor a single channel has a target of its own."""
    return as_member(spec) if is_member or plan.output.channel is not None else spec


def limited_with(measured: Measured, gain_db: float, leaders: Limited) -> Limited:
    """A member under the gain and the curve of its leader, which has as many hops."""
    assert measured.hops
    envelope = Envelope(measured.hops, measured.reading, "true_peak")
    return envelope.finished(envelope.left_by(leaders.left.curve, gain_db))


def member_plan(
    measured: Measured, spec: Spec, output: OutputFormat, leader: Plan, leaders: Limited | None, leader_title: str
) -> Plan:
    """The plan of a part of a sum: its leader's gain and curve, judged by all but the target.

    leaders: what the leader's limiter does, None where none works.
    """
    if leaders is None:
        predicted = after_gain(measured, leader.gain_db)
    else:
        predicted = after_limiting(measured, leader.gain_db, limited_with(measured, leader.gain_db, leaders))
    made = _with_gain_of(leader, measured, spec, output, predicted, leader.limiting)
    # A single channel of its leader has the curve of all of the leader's channels.
    curve_of = leader.recipe_of_programme if leader.limiting else None
    return replace(made, reasons=_reasons(leader, leader_title, made.verdict.meets), curve_of=curve_of)


def track_plan(measured: Measured, spec: Spec, output: OutputFormat, leader: Plan, leader_title: str) -> Plan:
    """The plan of a track of an album: the album's gain, which is its leader's, and a limiter of its own where peaks
    pass a ceiling with it and the spec allows one. Judged by all but the target."""
    gain_db = leader.gain_db
    limited = _own_limiting(measured, spec, output, gain_db)
    if limited is None:
        made = _with_gain_of(leader, measured, spec, output, after_gain(measured, gain_db), None)
        return replace(made, reasons=_track_reasons(leader, leader_title, made, None, spec))
    limiting, found = limited
    predicted = after_limiting(measured, gain_db, found)
    made = _with_gain_of(leader, measured, spec, output, predicted, limiting)
    if limiting.depth_db > allowed_depth_db(spec, limiting.limiter):
        made = replace(made, action="cannot_meet")
    return replace(made, reasons=_track_reasons(leader, leader_title, made, limiting, spec))


def _own_limiting(
    measured: Measured, spec: Spec, output: OutputFormat, gain_db: float
) -> tuple[Limiting, Limited] | None:
    """What a limiter of its own does to a track after the album's gain; None where none is needed or allowed."""
    ceilings = gain_range(measured, as_member(spec), output)
    over = ceilings.ceiling in HELD_BY_LIMITER and gain_db > ceilings.high
    if not over or spec.method.allow != "limiter" or not measured.hops:
        return None
    limiter = limiter_for(spec, ceilings.ceilings_db)
    found = envelope_of(measured, limiter).limited(gain_db, limiter)
    return Limiting(limiter, found.depth_db, found.share_ratio, found.places()), found


def _with_gain_of(
    leader: Plan,
    measured: Measured,
    spec: Spec,
    output: OutputFormat,
    predicted: Reading,
    limiting: Limiting | None,
) -> Plan:
    """A member's plan without its reasons."""
    predicted = in_format(measured, predicted, output, leader.gain_db)
    verdict = judge(predicted, as_member(spec))
    without_limiter: Action = "gain" if leader.gain_db else "as_is"
    lands: Action = "limit" if limiting else without_limiter
    return Plan(
        lands if verdict.meets and leader.action != "cannot_meet" else "cannot_meet",
        leader.gain_db,
        limiting,
        predicted,
        verdict,
        (),
        output,
        measured.chain,
        dithers(measured.reading.bits_used, output, leader.gain_db),
    )


def _track_reasons(leader: Plan, title: str, made: Plan, limiting: Limiting | None, spec: Spec) -> tuple[str, ...]:
    """What a track of an album gets, and why it cannot be where it cannot."""
    what = "stays as it is" if leader.gain_db == 0.0 else f"takes the {change(leader.gain_db)} dB"
    first = f"It {what} of {title}: one gain for the album, so that its tracks stay as loud against each other."
    if leader.action == "cannot_meet":
        return (f"{title}, whose gain it takes, cannot meet the spec.", *leader.reasons[:1])
    if limiting and limiting.depth_db > allowed_depth_db(spec, limiting.limiter):
        deep, most = figure(limiting.depth_db), figure(allowed_depth_db(spec, limiting.limiter))
        return (first, f"With it, its peaks would need {deep} dB of limiting, and {most} dB are allowed.")
    if not made.verdict.meets:
        return (first, "With it, this one passes a limit of the spec: a lower target for the album would do.")
    if limiting:
        return (first, f"Its own limiter holds its peaks, by {figure(limiting.depth_db)} dB at most.")
    return (first,)


def _reasons(leader: Plan, title: str, meets: bool) -> tuple[str, ...]:
    what = "stays as it is" if leader.action == "as_is" else f"takes the {change(leader.gain_db)} dB"
    curve = " and the limiter's curve" if leader.limiting else ""
    first = f"It {what}{curve} of {title}, so that the sum of the set holds."
    if leader.action == "cannot_meet":
        return (f"{title}, whose gain it takes, cannot meet the spec.", *leader.reasons[:1])
    if not meets:
        return (first, "With it, this one passes a limit of the spec: a lower target for the set would do.")
    return (first,)
