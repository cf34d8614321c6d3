"""The tasks. Each is safe to run twice: what an interrupted try left behind is swept out first."""

import logging
import shutil
import time
import uuid
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from datetime import UTC, datetime
from typing import Any

import procrastinate

from nicelevel.config import Config
from nicelevel.core.ahead import under_way
from nicelevel.core.digest import sha256_of
from nicelevel.core.errors import NiceLevelError, StoppedError, UnsupportedError
from nicelevel.core.files.decode import decode, needs_copy
from nicelevel.core.files.names import deliverable_path
from nicelevel.core.hear.programmes import hearing_fold
from nicelevel.core.measure import measure
from nicelevel.core.plan.sets import judged_by
from nicelevel.core.plan.sum_check import check_sum
from nicelevel.core.prepare import Kept, prepare
from nicelevel.core.prepare.shared import SharedSignals
from nicelevel.core.prepare.sum_up import write_sum
from nicelevel.core.process import refuse
from nicelevel.core.produce import Order, Planned, produce
from nicelevel.core.specs import Spec
from nicelevel.core.values import Deliverable as Made
from nicelevel.core.values import Plan, Preparation
from nicelevel.report.as_json import finding_json, one_plan_json, reading_json
from nicelevel.report.proof_sheet import course_json
from nicelevel.report.sum_words import sum_json
from nicelevel.store.audio import DECODED, AudioFolder
from nicelevel.store.changes import announce
from nicelevel.store.database import connected, database
from nicelevel.store.deliverables import UNFINISHED, find_deliverable, home_of, save_deliverable, unfinished_of
from nicelevel.store.jobs import destinations_of
from nicelevel.store.models import Deliverable, Source
from nicelevel.store.own_targets import own_target_of, with_target
from nicelevel.store.planning import limited_of, plans_of
from nicelevel.store.prepared import (
    missing_preparations,
    preparation_from_json,
    preparation_to_json,
    prepared_signals,
)
from nicelevel.store.readings import is_measured, load_figures, save_reading
from nicelevel.store.sources import (
    find_source,
    link_set,
    members_of,
    save_contents,
    save_source_state,
    save_sum_check,
)
from nicelevel.store.specs import spec_of

from .app import queue

logger = logging.getLogger("nicelevel.work")

TOLD_EVERY_S = 0.25
PREPARE_PRIORITY = 5
"""After what is to be measured, before what is to be rendered."""

_shared = SharedSignals()
"""By all that is rendered in this process."""

UNEXPECTED = "Something went wrong inside Nice Level; the log of the worker says what."


@queue.task(name="measure_source", pass_context=True)
def measure_source(context: procrastinate.JobContext, source_id: int) -> None:
    """Measure a source and keep its reading."""
    config = config_of(context)
    with connected(), under_way():
        source = find_source(source_id)
        if source is None:
            return
        with _source_outcome(source):
            _measure(source, AudioFolder(config.audio_folder))
            defer_preparations(source, AudioFolder(config.audio_folder))


def _measure(source: Source, audio: AudioFolder) -> None:
    if is_measured(source.digest):
        return
    progress = throttled(lambda ratio: save_source_state(source, "measuring", ratio))
    progress(0.0)
    path = audio.audio_path(source.digest)
    with audio.keeping_hops(source.digest) as folder:
        measured = measure(path, progress, folder)
        if needs_copy(path):
            decode(path, folder / DECODED)
    save_reading(source.digest, measured, audio)


@queue.task(name="prepare_source", pass_context=True)
def prepare_source(context: procrastinate.JobContext, source_id: int, preparation: dict[str, Any]) -> None:
    """Make a prepared signal of a source and keep its reading."""
    audio = AudioFolder(config_of(context).audio_folder)
    steps = preparation_from_json(preparation)
    with connected(), under_way():
        source = find_source(source_id)
        if source is None:
            return
        digest = steps.digest_of(source.digest)
        if not is_measured(digest):
            with audio.keeping_hops(digest) as folder:
                prepared = prepare(audio.audio_path(source.digest), steps, folder)
            save_reading(digest, prepared.reading, audio)
        announce(source.job_id, source.id)


@queue.task(name="check_sum_of_set", pass_context=True)
def check_sum_of_set(context: procrastinate.JobContext, leader_id: int) -> None:
    """Hold the members of a set against their leader and keep what was found."""
    audio = AudioFolder(config_of(context).audio_folder)
    with connected():
        leader, members = find_source(leader_id), members_of(leader_id)
        if leader is None or not members:
            return
        try:
            mix, *stems = (audio.audio_path(each.digest) for each in (leader, *members))
            titles = [each.title for each in members]
            kept = sum_json(check_sum(mix, stems, titles=[leader.title, *titles]), titles)
        except NiceLevelError as error:
            kept = {"adds_up": None, "sentence": error.message}
        save_sum_check(leader, kept)


@queue.task(name="make_sum", pass_context=True)
def make_sum(context: procrastinate.JobContext, source_id: int, member_ids: list[int]) -> None:
    """Write and measure the sum of some sources, as a source of its own that the set takes its gain from."""
    config = config_of(context)
    audio = AudioFolder(config.audio_folder)
    with connected():
        source = find_source(source_id)
        members = [each for each in map(find_source, member_ids) if each]
        if source is None or not members:
            return
        with _source_outcome(source):
            part = config.uploads_folder / f"{uuid.uuid4().hex}.part"
            try:
                save_source_state(source, "measuring")
                paths = [audio.audio_path(each.digest) for each in members]
                write_sum(paths, part, [each.title for each in members])
                source.digest, source.size_bytes = sha256_of(part), part.stat().st_size
                audio.adopt(part, source.digest)
            finally:
                part.unlink(missing_ok=True)
            save_contents(source)
            _measure(source, audio)
            defer_preparations(source, audio)
        link_set(source, members)


@contextmanager
def _source_outcome(source: Source) -> Iterator[None]:
    """Save how it ended, in one place for every way out."""
    try:
        yield
    except NiceLevelError as error:
        save_source_state(source, "failed", 0.0, error.code, error.message)
    except Exception:
        save_source_state(source, "failed", 0.0, "error", UNEXPECTED)
        raise
    else:
        save_source_state(source, "measured", 1.0)


@queue.task(name="render_deliverable", pass_context=True)
def render_deliverable(context: procrastinate.JobContext, deliverable_id: int) -> None:
    """Render a deliverable, prove it and keep what was proved."""
    config = config_of(context)
    with connected(), under_way():
        deliverable = find_deliverable(deliverable_id)
        if deliverable is None or deliverable.state not in UNFINISHED:
            return
        with _deliverable_outcome(deliverable):
            _render(deliverable, config)


def _render(deliverable: Deliverable, config: Config) -> None:
    source, audio = deliverable.source, AudioFolder(config.audio_folder)
    spec, plan = _planned(deliverable, audio)
    refuse(plan)
    home = home_of(deliverable.id, config.deliverables_folder)
    shutil.rmtree(home, ignore_errors=True)
    home.mkdir(parents=True)
    if not save_deliverable(deliverable, "rendering", progress_ratio=0.0, started_at=datetime.now(UTC)):
        raise StoppedError("Stopped.")
    progress = throttled(lambda ratio: _go_on(deliverable, ratio))
    path = deliverable_path(source.title, spec, plan.output)
    wanted_again = _is_wanted_again(deliverable, plan, audio)
    with _shared.reading(audio.audio_path(source.digest), plan.preparation, wanted_again) as kept:
        done = produce(_order(source, spec, plan, audio, kept), home / path.name, False, progress)
    stored = save_deliverable(
        deliverable,
        "proved" if done.proof.verdict.meets else "missed",
        progress_ratio=1.0,
        file_name=str(path.with_name(done.path.name)),
        sha256=done.proof.sha256,
        size_bytes=done.proof.reading.source.size_bytes,
        plan=one_plan_json(done.plan) | _made_as(done),
        measured=reading_json(done.proof.reading, done.path.name) | {"course": course_json(done.proof.reading)},
        findings=[finding_json(finding) for finding in done.proof.verdict.findings],
    )
    if not stored:
        raise StoppedError("Stopped.")


def _planned(deliverable: Deliverable, audio: AudioFolder) -> tuple[Spec, Plan]:
    """The spec that a deliverable is made for and its plan. Raises as `core.plan.plans`, and UnsupportedError."""
    source = deliverable.source
    spec = with_target(spec_of(deliverable.spec), own_target_of(source, deliverable.destination))
    plans = plans_of(source, spec, audio)
    if deliverable.format_number >= len(plans):
        raise UnsupportedError("The spec does not ask for this format any more.")
    return spec, plans[deliverable.format_number]


def _is_wanted_again(deliverable: Deliverable, plan: Plan, audio: AudioFolder) -> bool:
    """Whether another deliverable is to be made from the same prepared signal."""
    for other in unfinished_of(deliverable.source.digest):
        with suppress(NiceLevelError):
            of_other = _planned(other, audio)[1].preparation.of_all_channels
            if other.id != deliverable.id and of_other == plan.preparation.of_all_channels:
                return True
    return False


def _order(source: Source, spec: Spec, plan: Plan, audio: AudioFolder, kept: Kept | None) -> Order:
    def replan(tighter: Spec) -> Planned:
        made = plans_of(source, tighter, audio)[0]
        return made, limited_of(source, made, audio)

    return Order(
        audio.audio_path(source.digest),
        load_figures(source.digest, audio).source,
        spec,
        judged_by(spec, plan, source.leader_id is not None),
        (plan, limited_of(source, plan, audio)),
        prepared_signals(source.digest, audio),
        replan if plan.output.is_lossy and source.leader_id is None else None,
        kept,
    )


def _made_as(done: Made) -> dict[str, Any]:
    """What is kept beside the plan of a deliverable: how it came to be."""
    carried = {"kept": list(done.kept), "dropped": list(done.dropped)}
    return {"rounds": done.rounds, "asked_gain_db": done.asked.gain_db, "metadata": carried}


def _go_on(deliverable: Deliverable, ratio: float) -> None:
    """Tell the progress; ends the work where the deliverable was stopped or its source removed."""
    if not save_deliverable(deliverable, "rendering", progress_ratio=ratio):
        raise StoppedError("Stopped.")


@contextmanager
def _deliverable_outcome(deliverable: Deliverable) -> Iterator[None]:
    """Save how it ended where it did not end well; a stop was saved by who asked for it."""
    try:
        yield
    except StoppedError:
        logger.info("deliverable %s was stopped", deliverable.id)
    except NiceLevelError as error:
        save_deliverable(deliverable, "failed", error_code=error.code, error_message=error.message)
    except Exception:
        save_deliverable(deliverable, "failed", error_code="error", error_message=UNEXPECTED)
        raise


def throttled(tell: Callable[[float], None]) -> Callable[[float], None]:
    """A progress that is passed on at most four times a second."""
    last_s = -TOLD_EVERY_S

    def progress(ratio: float) -> None:
        nonlocal last_s
        if time.monotonic() - last_s >= TOLD_EVERY_S:
            last_s = time.monotonic()
            tell(ratio)

    return progress


def defer_preparations(source: Source, audio: AudioFolder) -> None:
    """Have every prepared signal made that the destinations of a measured source ask for and that is not there.

    Also the fold-down that is heard of more than two channels, whose loudness everything is matched by.
    """
    described = load_figures(source.digest, audio).source
    for destination in destinations_of(source.job_id):
        for steps in missing_preparations(described, source.digest, spec_of(destination.spec)):
            _defer_preparation(source, steps)
    heard = hearing_fold(described)
    if heard and not is_measured(heard.digest_of(source.digest)):
        _defer_preparation(source, heard)


def _defer_preparation(source: Source, steps: Preparation) -> None:
    """Have one prepared signal made; what waits already need not wait twice."""
    lock = f"prepare {steps.digest_of(source.digest)}"
    with suppress(procrastinate.exceptions.AlreadyEnqueued), database.atomic():
        task = prepare_source.configure(
            queueing_lock=lock, priority=PREPARE_PRIORITY, connection=database.connection()
        )
        task.defer(source_id=source.id, preparation=preparation_to_json(steps))


def config_of(context: procrastinate.JobContext) -> Config:
    config: Config = context.additional_context["config"]
    return config
