"""Putting work on the queue: the row and its queue entry in one transaction, so that neither stands alone."""

from nicelevel.core.plan import plans
from nicelevel.store.audio import AudioFolder
from nicelevel.store.database import database
from nicelevel.store.deliverables import queue_deliverable
from nicelevel.store.models import Deliverable, Destination, Source
from nicelevel.store.readings import load_reading
from nicelevel.store.sources import add_source, outdated_sources, save_source_state
from nicelevel.store.specs import spec_of

from .tasks import measure_source, render_deliverable

MEASURE_PRIORITY = 10
"""What was just dropped is measured before what waits to be rendered."""


def enqueue_source(
    job_id: int, file_name: str, digest: str, size_bytes: int, title: str | None = None, kind: str = "mix"
) -> Source:
    """Take a source into a job and have it measured."""
    with database.atomic():
        source = add_source(job_id, file_name, digest, size_bytes, title, kind)
        enqueue_measuring(source)
        return source


def enqueue_measuring(source: Source) -> None:
    """Have a source measured."""
    task = measure_source.configure(connection=database.connection(), priority=MEASURE_PRIORITY)
    task.defer(source_id=source.id)


def enqueue_outdated() -> int:
    """Have every source measured again whose reading was made by an earlier meter; how many those are."""
    outdated = outdated_sources()
    for source in outdated:
        with database.atomic():
            save_source_state(source, "queued")
            enqueue_measuring(source)
    return len(outdated)


def enqueue_renders(source: Source, destination: Destination, audio: AudioFolder) -> list[Deliverable]:
    """Have every format of a source at a destination rendered, but what is waiting or being rendered already.

    Plans that cannot meet their spec are not queued. Raises UnsupportedError where no plan can be made.
    """
    queued = []
    for number, plan in enumerate(plans(load_reading(source.digest, audio), spec_of(destination.spec))):
        if plan.action == "cannot_meet":
            continue
        with database.atomic():
            deliverable = queue_deliverable(source, destination, number)
            if deliverable:
                task = render_deliverable.configure(connection=database.connection())
                task.defer(deliverable_id=deliverable.id)
                queued.append(deliverable)
    return queued
