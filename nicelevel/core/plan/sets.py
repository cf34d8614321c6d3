"""Sets: sources that take one common gain, such as a mix and its stems.

The gain, and the curve of a limiter where one works, are those of the set's leader: so the sum of the stems stays the
mix. A member is not held to the target, which concerns the whole programme; its ceilings stay.
"""

import re
from collections import defaultdict
from collections.abc import Hashable, Mapping, Sequence
from dataclasses import dataclass, replace

from ..prepare import Prepared
from ..specs import Spec, judge
from ..values import Action, OutputFormat, Plan, Reading, Source
from ..words import change
from .formats import word_length_falls
from .limiter import Envelope, Limited
from .predict import after_gain, after_limiting, in_format

_MIX_WORDS = frozenset({"mix", "mixdown", "master", "full", "print"})


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
    found, taken = [], set()
    for group in alike.values():
        for leader in sorted(group, key=lambda each: len(_words(each.name))):
            members = tuple(
                each.key for each in group if each is not leader and each.key not in taken and _belongs(each, leader)
            )
            if members and leader.key not in taken:
                found.append(ProposedSet(leader.key, members))
                taken |= {leader.key, *members}
    return tuple(found)


def loudest(readings: Mapping[Hashable, Reading]) -> Hashable:
    """The source that a set is levelled by where it has no mix: the one of the highest integrated loudness."""
    return max(readings, key=lambda key: readings[key].integrated_lufs)


def _words(name: str) -> tuple[str, ...]:
    return tuple(re.findall(r"[^\W_]+", name.lower()))


def _belongs(member: Candidate, leader: Candidate) -> bool:
    """Whether a name goes on where the leader's ends."""
    stem = tuple(word for word in _words(leader.name) if word not in _MIX_WORDS)
    words = _words(member.name)
    return bool(stem) and len(words) > len(stem) and words[: len(stem)] == stem


def as_member(spec: Spec) -> Spec:
    """What a spec demands of a member of a set: all but the target."""
    return spec.model_copy(update={"loudness": None})


def judged_by(spec: Spec, plan: Plan, is_member: bool = False) -> Spec:
    """What the file of a plan is held to; neither a member of a set nor a single channel has a target of its own."""
    return as_member(spec) if is_member or plan.output.channel is not None else spec


def limited_with(prepared: Prepared, gain_db: float, leaders: Limited) -> Limited:
    """A member under the gain and the curve of its leader, which has as many hops."""
    assert prepared.hops
    envelope = Envelope(prepared.hops, prepared.reading, "true_peak")
    return envelope.finished(envelope.left_by(leaders.left.curve, gain_db))


def member_plan(
    prepared: Prepared, spec: Spec, output: OutputFormat, leader: Plan, leaders: Limited | None, leader_title: str
) -> Plan:
    """The plan of a member: its leader's gain and curve, judged by all but the target.

    leaders: what the leader's limiter does, None where none works.
    """
    if leaders is None:
        predicted = after_gain(prepared, leader.gain_db)
    else:
        predicted = after_limiting(prepared, leader.gain_db, limited_with(prepared, leader.gain_db, leaders))
    predicted = in_format(predicted, output)
    verdict = judge(predicted, as_member(spec))
    action: Action = leader.action if verdict.meets else "cannot_meet"
    return replace(
        leader,
        action=action,
        predicted=predicted,
        verdict=verdict,
        reasons=_reasons(leader, leader_title, verdict.meets, predicted),
        output=output,
        preparation=prepared.preparation,
        programme=None,
        dithers=output.dither != "none" and word_length_falls(prepared.reading.bits_used, output, leader.gain_db),
    )


def _reasons(leader: Plan, title: str, meets: bool, predicted: Reading) -> tuple[str, ...]:
    what = "stays as it is" if leader.action == "as_is" else f"takes the {change(leader.gain_db)} dB"
    curve = " and the limiter's curve" if leader.limiting else ""
    first = f"It {what}{curve} of {title}, so that the sum of the set holds."
    if leader.action == "cannot_meet":
        return (f"{title}, whose gain it takes, cannot meet the spec.", *leader.reasons[:1])
    if not meets:
        return (first, "With it, this one passes a limit of the spec: a lower target for the set would do.")
    return (first,)
