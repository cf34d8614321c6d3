"""The tasks. Each is safe to run twice, also side by side: what an earlier try left behind is swept out first."""

import shutil
from collections.abc import Iterator, Sequence
from contextlib import contextmanager, suppress
from functools import partial
from pathlib import Path
from typing import Any

import procrastinate

from nicelevel.config import Config
from nicelevel.core.digest import sha256_of
from nicelevel.core.errors import NotPreparedError, StoppedError
from nicelevel.core.files import StagedFile
from nicelevel.core.files.decode import decode, needs_copy
from nicelevel.core.files.names import deliverable_path
from nicelevel.core.files.staged import flush, speaking_errors
from nicelevel.core.measure import measure
from nicelevel.core.plan.formats import outputs_beside
from nicelevel.core.prepare import prepare
from nicelevel.core.prepare.for_output import recipe_for_two
from nicelevel.core.prepare.shared import SharedSignals
from nicelevel.core.prepare.sum_up import write_sum
from nicelevel.core.process import refuse
from nicelevel.core.produce import produce
from nicelevel.core.specs import Spec
from nicelevel.core.steps import FoundOf, Recipe, listen, recipe_from_json, recipe_to_json, resolve
from nicelevel.core.values import Deliverable as Proved
from nicelevel.core.values import Plan
from nicelevel.desk.contents import contents_of, described_of
from nicelevel.desk.planning import digest_of_plan
from nicelevel.desk.prepared import missing_for_two, missing_preparations
from nicelevel.desk.recipes import prepare_by_rules
from nicelevel.desk.rendering import is_signal_wanted_again, order_for, planned_for
from nicelevel.report.as_json import finding_json, one_plan_json, reading_json
from nicelevel.report.proof_sheet import course_json
from nicelevel.store.audio import DECODED, AudioFolder
from nicelevel.store.changes import announce
from nicelevel.store.database import database, persistently
from nicelevel.store.deliverables import (
    begin_deliverable,
    end_deliverable,
    find_deliverable,
    home_of,
    save_deliverable,
    tell_deliverable,
    try_folder,
)
from nicelevel.store.depot import drop, keep, names_in
from nicelevel.store.found import keeping_found
from nicelevel.store.jobs import destinations_of
from nicelevel.store.models import Deliverable, Source
from nicelevel.store.prepared import begin_preparation, end_preparation, forget_preparation
from nicelevel.store.readings import is_measured, known_shape, load_figures, save_reading
from nicelevel.store.sets import link_set
from nicelevel.store.sources import begin_source, end_source, find_source, save_source, take_place, tell_source
from nicelevel.store.specs import spec_of

from .app import queue
from .sets import defer_look_at_sets
from .trying import Call, ending, progress_of, task
from .weight import LIGHTEST, weight_of_preparing

PREPARE_PRIORITY = 5
"""After what is to be measured, before what is to be rendered."""

_shared = SharedSignals()
"""By all that is rendered in this process."""


def _give_up_source(config: Config, code: str, sentence: str, source_id: int, **_: Any) -> None:
    if source := find_source(source_id):
        end_source(source, code, sentence)
        AudioFolder(config.audio_folder).sweep(source.digest)


@task(_give_up_source)
def measure_source(call: Call, source_id: int) -> None:
    """Measure a source and keep its reading."""
    source = find_source(source_id)
    if source is None or not begin_source(source):
        return
    audio = AudioFolder(call.config.audio_folder)
    with _trying_source(call, source):
        _measure(call, source, audio)
        _save_measured(source, audio)


def _measure(call: Call, source: Source, audio: AudioFolder) -> None:
    if is_measured(source.digest) and audio.has_measured(source.digest):
        return
    path = audio.existing_path(source.digest)
    progress = progress_of(call, partial(tell_source, source))
    with speaking_errors(Path(source.file_name)), audio.keeping_hops(source.digest) as folder:
        measured = measure(path, progress, folder)
        if needs_copy(path):
            decode(path, folder / DECODED)
    with speaking_errors(Path(source.file_name)):
        persistently(partial(save_reading, source.digest, measured, audio))


def _save_measured(source: Source, audio: AudioFolder) -> None:
    if not persistently(partial(_saved_measured, source, audio)):
        raise StoppedError("Stopped.")


def _saved_measured(source: Source, audio: AudioFolder) -> bool:
    """All that follows from being measured, or none of it: a worker that is killed here leaves nothing half begun."""
    with database.atomic():
        if not save_source(source, "measured", progress_ratio=1.0):
            return False
        take_place(source)
        renders = prepare_by_rules(source, audio)
        prepared = find_source(source.id) or source  # with the recipe that it was given
        defer_preparations(prepared, audio)
        if renders:
            defer_rendering_by_rule(prepared)
        defer_look_at_sets(source.job_id)
        return True


@contextmanager
def _trying_source(call: Call, source: Source) -> Iterator[None]:
    def fail(code: str, sentence: str) -> bool:
        return save_source(source, "failed", progress_ratio=0.0, error_code=code, error_message=sentence)

    with ending(call, fail, partial(save_source, source, "queued", progress_ratio=0.0), can_pass=True):
        yield


def _give_up_preparation(
    config: Config, code: str, sentence: str, source_id: int, steps: list[dict[str, Any]]
) -> None:
    if source := find_source(source_id):
        digest = contents_of(source).name_of(recipe_from_json(steps))
        end_preparation(digest, code, sentence)
        AudioFolder(config.audio_folder).sweep(digest)
        announce(source.job_id, source.id)


@task(_give_up_preparation)
def prepare_source(call: Call, source_id: int, steps: list[dict[str, Any]]) -> None:
    """Make a prepared signal of a source and keep its reading."""
    source = find_source(source_id)
    if source is None:
        return
    recipe, audio = recipe_from_json(steps), AudioFolder(call.config.audio_folder)
    digest = contents_of(source).name_of(recipe)

    def end(code: str | None = None, sentence: str | None = None) -> bool:
        # Whoever makes it makes the same, so every try may say that it is there.
        end_preparation(digest, code, sentence)
        announce(source.job_id, source.id)
        return True

    with ending(call, end, lambda: True, can_pass=True):
        if not _is_wanted(source, recipe, audio):
            persistently(partial(forget_preparation, digest))  # its steps were changed meanwhile
            return
        if not (is_measured(digest) and audio.has_measured(digest)):
            _prepare(call, source, recipe, audio)
        persistently(end)
        if any(step.listens for step in recipe):
            # What formats ask for after steps that had to listen is known only now.
            persistently(partial(defer_preparations, source, audio))


def _is_wanted(source: Source, recipe: Recipe, audio: AudioFolder) -> bool:
    """Whether a prepared signal begins with the steps that the source has today, or is what two loudspeakers play."""
    own = contents_of(source).recipe
    return recipe[: len(own)] == own or recipe == recipe_for_two(load_figures(source.digest, audio).source.shape)


def _prepare(call: Call, source: Source, recipe: Recipe, audio: AudioFolder) -> None:
    path, shape = audio.existing_path(source.digest), load_figures(source.digest, audio).source.shape
    contents = contents_of(source)

    def listening(digest: str) -> FoundOf:
        return keeping_found(digest, listen(audio.existing_path(digest)))

    chain = resolve(shape, recipe, contents.found_by(listening))
    if chain.is_nothing:
        return
    digest, progress = contents.name_of_chain(chain), progress_of(call, lambda _: True)
    if is_measured(digest) and audio.has_measured(digest):
        return  # it was only listened to
    with speaking_errors(Path(source.file_name)), audio.keeping_hops(digest) as folder:
        prepared = prepare(path, chain, folder, progress)
    with speaking_errors(Path(source.file_name)):
        persistently(partial(save_reading, digest, prepared.reading, audio))


@task(_give_up_source)
def make_sum(call: Call, source_id: int, member_ids: list[int]) -> None:
    """Write and measure the sum of some sources, as a source of its own that the set takes its gain from."""
    audio = AudioFolder(call.config.audio_folder)
    source = find_source(source_id)
    members = [each for each in map(find_source, member_ids) if each]
    if source is None or not members or not begin_source(source):
        return
    with _trying_source(call, source):
        if not source.digest:
            _write_sum(source, members, call.config.uploads_folder, audio)
        _measure(call, source, audio)
        _save_measured(source, audio)
        persistently(partial(link_set, source, members, "sum"))


def _write_sum(source: Source, members: Sequence[Source], folder: Path, audio: AudioFolder) -> None:
    staged = StagedFile(folder / f"sum-{source.id}-{source.token}.wav")
    try:
        with speaking_errors(staged.final):
            paths = [audio.existing_path(each.digest) for each in members]
            write_sum(paths, staged.path, [each.title for each in members])
            staged.settle()
            digest, size_bytes = sha256_of(staged.path), staged.path.stat().st_size
            audio.adopt(staged.path, digest)
    finally:
        staged.discard()
    contents = {"digest": digest, "size_bytes": size_bytes}
    if not persistently(partial(save_source, source, "measuring", **contents)):
        raise StoppedError("Stopped.")
    source.digest, source.size_bytes = digest, size_bytes


def _give_up_deliverable(config: Config, code: str, sentence: str, deliverable_id: int) -> None:
    deliverable = find_deliverable(deliverable_id)
    if deliverable and end_deliverable(deliverable, "failed", error_code=code, error_message=sentence):
        shutil.rmtree(try_folder(deliverable, config.deliverables_folder), ignore_errors=True)


@task(_give_up_deliverable)
def render_deliverable(call: Call, deliverable_id: int) -> None:
    """Render a deliverable, prove it and keep what was proved."""
    deliverable = find_deliverable(deliverable_id)
    if deliverable is None or not begin_deliverable(deliverable):
        return

    def fail(code: str, sentence: str) -> bool:
        return save_deliverable(deliverable, "failed", error_code=code, error_message=sentence)

    with ending(call, fail, partial(save_deliverable, deliverable, "queued", progress_ratio=0.0)):
        _render(call, deliverable)


def _render(call: Call, deliverable: Deliverable) -> None:
    source, audio = deliverable.source, AudioFolder(call.config.audio_folder)
    spec, plan = _planned_surely(call, deliverable, audio)
    refuse(plan)
    beside = outputs_beside(described_of(contents_of(source).then(spec), audio), spec)
    path = deliverable_path(source.title, spec, plan.output, beside)
    progress = progress_of(call, partial(tell_deliverable, deliverable))
    wanted_again = is_signal_wanted_again(deliverable, plan, audio)
    with _folder_of_try(deliverable, call.config.deliverables_folder) as folder:
        with _shared.reading(audio.existing_path(source.digest), plan.chain, wanted_again) as kept:
            done = produce(order_for(source, spec, plan, audio, kept), folder / path.name, False, progress)
        result = {
            "progress_ratio": 1.0,
            "file_name": str(path.with_name(done.path.name)),
            "sha256": done.proof.sha256,
            "size_bytes": done.proof.reading.source.size_bytes,
            "plan": one_plan_json(done.plan) | _made_as(done),
            "plan_digest": digest_of_plan(source, plan),
            "measured": reading_json(done.proof.reading, done.path.name)
            | {"course": course_json(done.proof.reading)},
            "findings": [finding_json(finding) for finding in done.proof.verdict.findings],
        }
        state = "proved" if done.proof.verdict.meets else "missed"
        keep(done.path)
        # The file stands in a folder that only this try knows; with this, if the try is the newest, it is the one.
        if not persistently(partial(save_deliverable, deliverable, state, **result)):
            raise StoppedError("Stopped.")


@contextmanager
def _folder_of_try(deliverable: Deliverable, folder: Path) -> Iterator[Path]:
    """A folder for one try, kept where the block ends well; what earlier tries left is swept out first."""
    home, place = home_of(deliverable.id, folder), try_folder(deliverable, folder)
    try:
        with speaking_errors(place):
            place.mkdir(parents=True)
            for parent in (home, folder):
                flush(parent)
            _sweep_earlier(home, deliverable.token or 0)
            _drop_earlier(home, deliverable.token or 0)
        yield place
    except BaseException:
        shutil.rmtree(place, ignore_errors=True)
        raise


def _sweep_earlier(home: Path, token: int) -> None:
    """What lies there of earlier tries; of a later one nothing is touched, for then this one is the lost one."""
    for left in home.iterdir():
        if left.is_dir() and left.name.isdigit():
            if int(left.name) < token:
                shutil.rmtree(left, ignore_errors=True)
        else:
            left.unlink(missing_ok=True)


def _drop_earlier(home: Path, token: int) -> None:
    """The same where files are kept for good."""
    for name in {each.partition("/")[0] for each in names_in(home)}:
        if not name.isdigit() or int(name) < token:
            drop(home / name)


def _planned_surely(call: Call, deliverable: Deliverable, audio: AudioFolder) -> tuple[Spec, Plan]:
    """The same; a prepared signal that is not there (any more) is made first."""
    try:
        return planned_for(deliverable, audio)
    except NotPreparedError:
        source, spec = deliverable.source, spec_of(deliverable.spec)
        for each in (source.leader, source) if source.leader_id else (source,):
            prepare_all(call, each, spec, audio)
        return planned_for(deliverable, audio)


def prepare_all(call: Call, source: Source, spec: Spec, audio: AudioFolder) -> None:
    """Twice where steps have to listen first: what a format asks for after them is known only then."""
    contents = contents_of(source)
    for _ in range(2):
        for recipe in missing_preparations(contents, spec, audio):
            _prepare(call, source, recipe, audio)
            persistently(partial(end_preparation, contents.name_of(recipe)))


def _made_as(done: Proved) -> dict[str, Any]:
    """What is kept beside the plan of a deliverable: how it came to be."""
    carried = {"kept": list(done.kept), "dropped": list(done.dropped)}
    prepared = [each.words for each in done.plan.chain.done if each.words]
    return {
        "rounds": done.rounds,
        "asked_gain_db": done.asked.gain_db,
        "metadata": carried,
        "prepared": prepared,
    }


def defer_preparations(source: Source, audio: AudioFolder) -> None:
    """Have every prepared signal made that the destinations of a measured source ask for and that is not there.

    Also the fold-down that is heard of more than two channels, whose loudness everything is matched by.
    """
    contents = contents_of(source)
    for destination in destinations_of(source.job_id):
        for recipe in missing_preparations(contents, spec_of(destination.spec), audio):
            defer_preparation(source, recipe)
    if heard := missing_for_two(contents, audio):
        defer_preparation(source, heard)


def defer_rendering_by_rule(source: Source) -> None:
    """Have all that lands of a source rendered, after what is prepared of it."""
    task_of_rule = queue.configure_task(
        "render_by_rule",
        lock=f"by rule {source.id}",
        priority=PREPARE_PRIORITY - 1,
        connection=database.connection(),
    )
    task_of_rule.defer(source_id=source.id)


def defer_preparation(source: Source, recipe: Recipe) -> None:
    """Have one prepared signal made; what waits already need not wait twice, and two never work on the same."""
    digest = contents_of(source).name_of(recipe)
    begin_preparation(digest, source.digest, recipe)
    lock = f"prepare {digest}"
    with suppress(procrastinate.exceptions.AlreadyEnqueued), database.atomic():
        shape = known_shape(source.digest)
        task = prepare_source.configure(
            queueing_lock=lock,
            lock=lock,
            priority=PREPARE_PRIORITY,
            connection=database.connection(),
            queue=(weight_of_preparing(shape) if shape else LIGHTEST).queue,
        )
        task.defer(source_id=source.id, steps=recipe_to_json(recipe))
