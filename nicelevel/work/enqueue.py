"""Putting work on the queue: the row and its queue entry in one transaction, so that neither stands alone."""

from collections.abc import Collection, Sequence
from datetime import datetime
from typing import Any

from peewee import chunked

from nicelevel.config import Config
from nicelevel.core.specs import Spec
from nicelevel.core.specs.retarget import with_target
from nicelevel.core.values import Shape
from nicelevel.core.words import listed
from nicelevel.desk.planning import digest_of_plan, spec_at
from nicelevel.desk.rendering import plans_to_render
from nicelevel.handover.receiver import checked_address, shown_address
from nicelevel.report.as_json import one_plan_json
from nicelevel.store.audio import AudioFolder
from nicelevel.store.database import database
from nicelevel.store.deliverables import Asked, queue_deliverables
from nicelevel.store.jobs import all_jobs
from nicelevel.store.journal import enter
from nicelevel.store.models import Deliverable, Destination, Job, Sending, Source
from nicelevel.store.own_targets import own_targets_of
from nicelevel.store.prepared import failed_preparations
from nicelevel.store.readings import known_shapes
from nicelevel.store.runs import LOCK_OF_DELIVERABLE
from nicelevel.store.sendings import add_sending
from nicelevel.store.sources import add_source, lost_sources, outdated_sources, queue_source, same_file, sources_of
from nicelevel.store.specs import spec_of

from .app import queue
from .sending import send_package
from .sets import check_sum_of_set, defer_look_at_sets
from .tasks import (
    PREPARE_PRIORITY,
    defer_preparation,
    defer_preparations,
    make_sum,
    measure_source,
    render_deliverable,
)
from .weight import LIGHTEST, weight_of_measuring, weight_of_rendering

ENTRIES_AT_ONCE = 500

MEASURE_PRIORITY = 10
"""What was just dropped is measured before what waits to be rendered."""


def enqueue_source(
    job_id: int,
    file_name: str,
    digest: str,
    size_bytes: int,
    title: str | None = None,
    kind: str = "mix",
    changed_at: datetime | None = None,
    replaces: Source | None = None,
) -> Source:
    """Take a source into a job and have it measured; the very same file is not taken in twice.

    replaces: the source that it is to stand for.
    """
    with database.atomic():
        source = same_file(job_id, file_name, digest)
        if source is None:
            source = add_source(job_id, file_name, digest, size_bytes, title, kind, changed_at, replaces)
            enter(f"took in {file_name}" + (f" in place of {replaces.file_name}" if replaces else ""), job_id)
            enqueue_measuring(source)
        for lost in lost_sources(digest):
            measure_again(lost)
        return source


def enqueue_measuring(source: Source) -> None:
    """Have a source measured."""
    # The same contents in two jobs: the second finds them measured, and two never write into one folder.
    lock = f"measure {source.digest}"
    task = measure_source.configure(
        connection=database.connection(),
        priority=MEASURE_PRIORITY,
        lock=lock,
        queue=weight_of_measuring(source.size_bytes).queue,
    )
    task.defer(source_id=source.id)


def enqueue_outdated() -> int:
    """Have every source measured again whose reading was made by an earlier meter; how many those are."""
    outdated = outdated_sources()
    for source in outdated:
        measure_again(source)
    return len(outdated)


def measure_again(source: Source) -> bool:
    """Have a source measured once more; False where it waits for that already."""
    with database.atomic():
        queued = queue_source(source)
        if queued:
            enqueue_measuring(source)
        return queued


def enqueue_again_of_source(source: Source) -> bool:
    """Have done once more what failed of a source, measuring or preparing; False where nothing had."""
    if source.state == "failed":
        return measure_again(source)
    failed = failed_preparations(source.digest)
    for recipe in failed:
        defer_preparation(source, recipe)
    return bool(failed)


def enqueue_preparations(job_id: int, audio: AudioFolder, of: Collection[int] | None = None) -> None:
    """Have made what the destinations of a job ask for and is not there yet.

    of: ids of sources, whose members are meant too; None for all.
    """
    for source in sources_of(job_id):
        if source.state == "measured" and (of is None or source.id in of or source.leader_id in of):
            defer_preparations(source, audio)


def enqueue_every_preparation(config: Config) -> None:
    """Have made what any destination of any job asks for and is not there, and looked at what was not."""
    audio = AudioFolder(config.audio_folder)
    for job in all_jobs():
        enqueue_preparations(job.id, audio)
        defer_look_at_sets(job.id)


def enqueue_sum_check(leader: Source) -> None:
    """Have the members of a set held against their leader."""
    check_sum_of_set.configure(connection=database.connection(), priority=PREPARE_PRIORITY).defer(leader_id=leader.id)


def enqueue_sum(job_id: int, members: Sequence[Source]) -> Source:
    """Have the sum of some sources made, as a source that they take their gain from."""
    with database.atomic():
        titles = [each.title for each in members]
        title = f"Sum of {listed(titles)}" if len(titles) <= 4 else f"Sum of {len(titles)}"
        source = add_source(job_id, "sum.wav", "", 0, title, kind="sum")
        task = make_sum.configure(connection=database.connection(), priority=MEASURE_PRIORITY)
        task.defer(source_id=source.id, member_ids=[each.id for each in members])
        return source


def enqueue_sending(job: Job, address: str, contribution: dict[str, Any] | None = None) -> Sending:
    """Have the package of a job sent, or a contribution. Raises ReceiverError where the address is none."""
    checked = checked_address(address)
    with database.atomic():
        sending = add_sending(job, checked, contribution)
        what = "a contribution" if contribution else "the package"
        enter(f"sent {what} to {shown_address(checked)}", job.id)
        enqueue_sending_of(sending)
        return sending


def enqueue_sending_of(sending: Sending) -> None:
    """Have a package that waits sent, or its answer asked for."""
    send_package.configure(connection=database.connection(), lock=f"sending {sending.id}").defer(
        sending_id=sending.id
    )


def enqueue_renders(source: Source, destination: Destination, audio: AudioFolder) -> list[Deliverable]:
    """Have every format of a source at a destination rendered, but what is waiting or being rendered already.

    Plans that cannot meet their spec are not queued. Raises UnsupportedError where no plan can be made.
    """
    return _enqueue(_asked(source, destination, spec_at(source, destination), audio))


def enqueue_all_renders(job_id: int, places: Sequence[tuple[Source, Destination]], audio: AudioFolder) -> int:
    """The same at many places of a job; how many deliverables those are."""
    own = own_targets_of(job_id)
    asked: list[Asked] = []
    for source, place in places:
        target = own.get((source.leader_id or source.id, place.id))
        asked += _asked(source, place, with_target(spec_of(place.spec), target), audio)
    return len(_enqueue(asked))


def _asked(source: Source, destination: Destination, spec: Spec, audio: AudioFolder) -> list[Asked]:
    return [
        Asked(source, destination, plan.output.key, one_plan_json(plan), digest_of_plan(source, plan))
        for plan in plans_to_render(source, spec, audio)
    ]


def enqueue_again(deliverable: Deliverable) -> bool:
    """Have one deliverable that ended rendered once more; False where it waits or is being rendered already."""
    of = deliverable
    return bool(_enqueue([Asked(of.source, of.destination, of.output, of.plan, of.plan_digest)]))


def _enqueue(asked: Sequence[Asked]) -> list[Deliverable]:
    with database.atomic():
        queued = queue_deliverables(asked)
        enqueue_renderings(queued)
        return queued


def enqueue_renderings(deliverables: Sequence[Deliverable]) -> None:
    """Have deliverables that wait rendered."""
    shapes = known_shapes(each.source.digest for each in deliverables)
    for some in chunked(deliverables, ENTRIES_AT_ONCE):
        entries = [_entry(each, shapes.get(each.source.digest)) for each in some]
        queue.job_manager.batch_defer_jobs(entries, connection=database.connection())


def _entry(deliverable: Deliverable, shape: Shape | None) -> Any:
    source, weight = deliverable.source, LIGHTEST
    if shape:
        weight = weight_of_rendering(shape, bool(source.recipe_json))
    lock = LOCK_OF_DELIVERABLE.format(deliverable.id)
    task = render_deliverable.configure(lock=lock, queue=weight.queue)
    return task.make_new_job(deliverable_id=deliverable.id)
