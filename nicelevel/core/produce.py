"""From a plan to a file that was proved before it got its name.

What an encoder does to peak and level is known only from what it wrote. So a lossy file is decoded and measured;
where it passes a ceiling or stands off the target, a plan for as much less is made and it is encoded again.
"""

import math
from collections.abc import Callable, Iterator
from dataclasses import dataclass, replace
from pathlib import Path

from .ahead import beside
from .codecs import constant_kbps
from .digest import sha256_of
from .files import StagedFile
from .files.metadata import Carried, carry_metadata
from .files.names import missed_name
from .files.staged import speaking_errors
from .files.wave_chunks import set_bext_loudness
from .mp3.frames import STEP_DB
from .mp3.regain import write_in_steps
from .plan.formats import format_behind
from .plan.limiter import Limited
from .prepare import MeasuredOf
from .progress import Progress, share_of
from .prove import prove
from .rehearse import SHORTEST_S, expected_reading, nominal_kbps
from .render import render
from .signals import Signal
from .specs import Spec
from .specs.judge import MEASURES, level_findings, named_limits
from .specs.spec import Format, Loudness
from .values import Deliverable, Plan, Proof, Reading, Source

MOST_ROUNDS = 5
REFINEMENTS, SHORT_REFINEMENTS = 1, 2
"""What meets its spec without rehearsal is brought nearer to the target so often; rounds of long ones cost more."""

MOST_REHEARSALS = 3
"""An encoder passes a lower ceiling by a little more: each rehearsal is of what the last one led to."""

SURE_DB = 0.12
"""What is lowered by no more than this after a rehearsal is not rehearsed again: the room that is left takes it."""

ROOMS_DB = (0.02, 0.1, 0.4)
"""A ceiling is lowered by so much more than the encoder passed it, round by round: it passes a lower ceiling too."""

OFF_TARGET_DB = 0.1
"""Where an encoder moves the level by more than this, the gain makes up for it, also within the tolerance."""

MADE_UP_FOR_LU = 0.5
"""By no more than this an encoder moves the level of a programme."""

FIRST_SHARE, REHEARSED_SHARE = 0.4, 0.9
"""Of the time of all rounds that is left, what a round takes: of a rehearsed programme there are seldom more."""

RENDER_SHARE = 0.6
"""Of the time of a round; the rest is its proof."""

Planned = tuple[Plan, Limited | None]
Replan = Callable[[Spec], Planned]
"""Makes the plan of the same source anew for a spec with one format, with what its limiter does."""


@dataclass(frozen=True)
class Order:
    """What is to be made: a source, the spec that is held, the plan, and how to plan anew.

    judging: the spec that the file is held to; measured_of: gives its prepared signals; replan: None where the gain
    is another source's; kept: the plan's prepared signal, where it need not be made again; leads: whether others take
    its gain, so that it is moved only where the file would miss its spec without.
    """

    path: Path
    source: Source
    spec: Spec
    judging: Spec
    planned: Planned
    measured_of: MeasuredOf
    replan: Replan | None
    kept: Signal | None = None
    leads: bool = False


def produce(
    order: Order, target: Path, replace_existing: bool = False, progress: Progress | None = None
) -> Deliverable:
    """Render, prove, and publish: under the name of `target`, or one that says that it misses its spec.

    Raises the NiceLevelError named for the cause where the source cannot be used or the target not be written.
    """
    if order.planned[0].output.in_steps:
        return _in_steps(order, target, replace_existing, progress)
    first, met = order.planned[0], None
    alone = _of_one_format(order, first)
    asked, planned, rehearsed = (alone, order.planned, False) if order.leads else _rehearsed(order, alone)
    refinements = 0 if rehearsed or order.leads else _refinements(first)
    nominal = _nominal_kbps(order) if first.output.encoding == "vorbis" else None
    for number in range(MOST_ROUNDS):
        is_last = number + 1 == MOST_ROUNDS
        # What has met its spec once is made again rather than something that may be nearer to the target.
        planned = met if is_last and met else planned
        part = _of_round(progress, number, rehearsed) if first.output.is_lossy else progress
        staged = render(
            order.path, *_set(planned, nominal, first), target, share_of(part, 0.0, RENDER_SHARE), order.kept
        )
        try:
            carried = _carried(order, staged, planned[0])
            with beside(staged.settle) as settled:
                proof = prove(staged.path, order.judging, share_of(part, RENDER_SHARE, 1.0 - RENDER_SHARE))
                settled.result()
            met = planned if proof.verdict.meets else met
            is_good = proof.verdict.meets and number >= refinements
            reading, room_db = proof.reading, ROOMS_DB[min(number + rehearsed, len(ROOMS_DB) - 1)]
            tighter = None if is_last or is_good else _tighter(asked, order.spec, first, reading, room_db)
            again = _again(order, tighter, planned[0]) or (None if proof.verdict.meets else met)
            if is_last or again is None:
                proof = _with_loudness_stated(staged, planned[0], proof, carried)
                done = Deliverable(target, planned[0], proof, first, number + 1, carried.kept, carried.dropped)
                return _publish(staged, done, replace_existing)
            asked, planned = tighter or asked, again
        finally:
            staged.discard()
    raise AssertionError("the last round publishes")


def _in_steps(order: Order, target: Path, replace_existing: bool, progress: Progress | None) -> Deliverable:
    """The coded file itself, its level moved: no encoder does anything that would have to be made up for."""
    plan = order.planned[0]
    with speaking_errors(target):
        target.parent.mkdir(parents=True, exist_ok=True)
        staged = StagedFile(target)
    try:
        write_in_steps(order.path, staged.path, round(plan.gain_db / STEP_DB))
        with beside(staged.settle) as settled:
            proof = prove(staged.path, order.judging, progress)
            settled.result()
        return _publish(staged, Deliverable(target, plan, proof, plan), replace_existing)
    finally:
        staged.discard()


def _refinements(first: Plan) -> int:
    return REFINEMENTS if first.predicted.source.duration_s >= SHORTEST_S else SHORT_REFINEMENTS


def _nominal_kbps(order: Order) -> float | None:
    return nominal_kbps(order.path, *order.planned, order.measured_of(order.planned[0].chain.recipe))


def _set(planned: Planned, nominal: float | None, first: Plan) -> Planned:
    """What is planned, with the encoder set to a nominal bit rate, and told the level that the file is to state.

    That is what was planned first: a later plan stands off it by what the encoder does, which it makes up for; or by
    more, where a ceiling asks for it.
    """
    plan, limited = planned
    is_made_up_for = abs(plan.predicted.integrated_lufs - first.predicted.integrated_lufs) <= MADE_UP_FOR_LU
    stated_db = (first if is_made_up_for else plan).predicted.source.dialnorm_db
    return replace(plan, output=replace(plan.output, nominal_kbps=nominal, dialnorm_db=stated_db)), limited


def _of_round(progress: Progress | None, number: int, rehearsed: bool) -> Progress | None:
    """The part of the progress that a round has: most of what is left where it is likely to be the last."""
    share = REHEARSED_SHARE if rehearsed else FIRST_SHARE
    return share_of(progress, 1.0 - (1.0 - share) ** number, share * (1.0 - share) ** number)


def _carried(order: Order, staged: StagedFile, plan: Plan) -> Carried:
    """What the source says about itself, in the written file."""
    level = order.spec.output.metadata
    return carry_metadata(
        order.path, order.source.sample_rate_hz, staged.path, plan.output, level, plan.chain.timeline
    )


def _with_loudness_stated(staged: StagedFile, plan: Plan, proof: Proof, carried: Carried) -> Proof:
    """The same proof of the file whose `bext`, where it has one, now states what was measured: no sample changes."""
    is_whole = plan.output.channel is None
    if plan.output.container != "wav" or "bext" not in carried.kept or not is_whole:
        return proof
    set_bext_loudness(staged.path, proof.reading)
    return replace(proof, sha256=sha256_of(staged.path))


def _of_one_format(order: Order, plan: Plan) -> Spec:
    """The spec with the format of a plan alone."""
    wanted = format_behind(order.source, order.spec, plan.output)
    output = order.spec.output.model_copy(update={"pick": "all"})
    return order.spec.model_copy(update={"formats": (wanted,), "output": output})


def _again(order: Order, tighter: Spec | None, plan: Plan) -> Planned | None:
    """A plan for a tighter spec; None where there is nothing to plan for, it cannot be met, or is the same again."""
    if tighter is None or order.replan is None:
        return None
    planned = order.replan(tighter)
    return None if _is_same(planned[0], plan) or planned[0].action == "cannot_meet" else planned


def _is_same(one: Plan, other: Plan) -> bool:
    """Whether two plans would write the same file, but for what an encoder makes of a hundredth of a dB."""
    ceilings = [plan.limiting.limiter.ceiling_db if plan.limiting else math.inf for plan in (one, other)]
    gains = [one.gain_db, other.gain_db]
    close = all(math.isclose(*pair, rel_tol=0.0, abs_tol=ROOMS_DB[0] / 2) for pair in (ceilings, gains))
    return close and one.output == other.output


def _rehearsed(order: Order, asked: Spec) -> tuple[Spec, Planned, bool]:
    """The spec and the plan of the first round, and whether they make up for what an encoder does."""
    first, planned = order.planned[0], order.planned
    is_sure, most = False, MOST_REHEARSALS if first.output.is_lossy and order.replan else 0
    while not is_sure and most:
        expected = expected_reading(order.path, *planned, order.measured_of(planned[0].chain.recipe))
        if expected is None:
            break
        tighter = _tighter(asked, order.spec, first, expected, ROOMS_DB[0])
        again = _again(order, tighter, planned[0])
        if tighter is None or again is None:
            return asked, planned, tighter is None
        is_sure, most = planned is not order.planned and _is_close(asked, tighter), most - 1
        asked, planned = tighter, again
    return asked, planned, planned is not order.planned


def _is_close(one: Spec, other: Spec) -> bool:
    """Whether two specs differ by little, and in their limits alone."""
    limits = zip(named_limits(one), named_limits(other), strict=True)
    is_same = one.loudness == other.loudness and one.formats == other.formats
    return is_same and all(abs(mine - theirs) <= SURE_DB for (_, mine), (_, theirs) in limits)


def _tighter(asked: Spec, spec: Spec, first: Plan, reading: Reading, room_db: float) -> Spec | None:
    """A spec that makes up for what the encoder did; None where it did nothing that could be made up for."""
    if not first.output.is_lossy:
        return None
    limits = dict(_lower_limits(asked, spec, reading, room_db))
    loudness = _moved_target(asked, spec, first, reading)
    smaller = _smaller_format(asked, spec, reading)
    if not limits and loudness is None and smaller is None:
        return None
    return asked.model_copy(
        update={
            "limits": asked.limits.model_copy(update=limits),
            "loudness": loudness or asked.loudness,
            "formats": (smaller or asked.formats[0],),
        }
    )


def _lower_limits(asked: Spec, spec: Spec, reading: Reading, room_db: float) -> Iterator[tuple[str, float]]:
    """Ceilings that were passed, each as much lower as it was passed, and a little more."""
    present = {limit.key: required for limit, required in named_limits(asked)}
    for limit, required in named_limits(spec):
        found = limit.figure(reading)
        if limit.moved_by_gain and found is not None and found > required:
            yield limit.key, present[limit.key] - (found - required) - room_db


def _moved_target(asked: Spec, spec: Spec, first: Plan, reading: Reading) -> Loudness | None:
    """The target moved by as much as the level is off what was meant first; None where it is not.

    What was to stay as it is gets a gain only where the encoder brings it out of the tolerance.
    """
    if asked.loudness is None:
        return None
    target_finding = level_findings(reading, spec)[0]
    if first.action == "as_is" and target_finding.meets:
        return None
    figure = MEASURES[asked.loudness.measure]
    off_db = figure(reading) - figure(first.predicted)
    if not math.isfinite(off_db) or abs(off_db) <= OFF_TARGET_DB:
        return None
    target = asked.loudness.target_for(len(first.output.layout.positions)) - off_db
    return asked.loudness.model_copy(update={"target": target, "mono_target": None})


def _smaller_format(asked: Spec, spec: Spec, reading: Reading) -> Format | None:
    """The format at the next lower bit rate that would fit, where the file came out too large."""
    wanted, source, most = asked.formats[0], reading.source, spec.limits.max_size_bytes
    if most is None or source.size_bytes is None or source.size_bytes <= most:
        return None
    fits_kbps = most * 8 / 1000 / source.duration_s * (most / source.size_bytes)
    known = constant_kbps(wanted.encoding, source.sample_rate_hz)
    lower = [kbps for kbps in known if kbps < min(fits_kbps, wanted.bitrate_kbps or math.inf)]
    return wanted.model_copy(update={"bitrate_kbps": float(lower[-1])}) if lower else None


def _publish(staged: StagedFile, done: Deliverable, replace_existing: bool) -> Deliverable:
    name = staged.final.name if done.proof.verdict.meets else missed_name(staged.final.name)
    path = staged.publish(name, replace=replace_existing)
    source = replace(done.proof.reading.source, path=path)
    proof = replace(done.proof, reading=replace(done.proof.reading, source=source))
    return replace(done, path=path, proof=proof)
