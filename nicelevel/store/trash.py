"""The trash: sources, destinations and jobs that were taken away, until it is emptied."""

from dataclasses import dataclass
from datetime import UTC, datetime, timedelta

from .changes import announce, announce_destination
from .database import database
from .deliverables import stop_those
from .models import Change, Deliverable, Destination, Job, Source
from .sides import sides_of


@dataclass(frozen=True)
class Trash:
    """How much lies in it; size_bytes: of the files that only it holds."""

    jobs: int
    sources: int
    destinations: int
    size_bytes: int

    @property
    def is_empty(self) -> bool:
        return not (self.jobs or self.sources or self.destinations)


def trash_source(source: Source) -> None:
    """Take a source off its board; a set that it leads ends, and what is rendered of it is stopped."""
    with database.atomic():
        Source.update(leader=None).where(Source.leader == source.id).execute()
        gone = {"trashed_at": datetime.now(UTC), "leader": None, "set_kind": None, "sum_check": None}
        Source.update(**gone).where(Source.id == source.id).execute()
        stop_those(Deliverable.source == source.id)
        announce(source.job_id, source.id)


def trash_destination(destination: Destination) -> None:
    """Take a destination off its board, and stop what is rendered for it."""
    with database.atomic():
        Destination.update(trashed_at=datetime.now(UTC)).where(Destination.id == destination.id).execute()
        stop_those(Deliverable.destination == destination.id)
        announce_destination(destination.job_id, destination.id)


def trash_job(job: Job) -> None:
    """Take a job off the list, and stop what is rendered of it."""
    with database.atomic():
        Job.update(trashed_at=datetime.now(UTC)).where(Job.id == job.id).execute()
        stop_those(Deliverable.source.in_(Source.select(Source.id).where(Source.job == job.id)))


def trash() -> Trash:
    """What lies in it now."""
    jobs, sources, destinations = _in_trash(None)
    kept = _kept(jobs, sources, destinations)
    size_bytes = sum(each.size_bytes or 0 for each in kept)
    needed = {
        each.digest for each in Source.select(Source.digest).where(Source.id.not_in(_ids_of_all(jobs, sources)))
    }
    needed |= {side for _, side in sides_of(needed)}
    gone = {each.digest: each.size_bytes for each in _sources_of(jobs, sources) if each.digest not in needed}
    return Trash(len(jobs), len(sources), len(destinations), size_bytes + sum(gone.values()))


def jobs_in_trash() -> list[str]:
    """Titles of whole jobs that lie in it: their journals go with them, so the house's says which."""
    return [each.title for each in _in_trash(None)[0]]


def first_in_trash() -> datetime | None:
    """When what has lain there longest was thrown away."""
    times = [each.trashed_at for found in _in_trash(None) for each in found]
    return min(times, default=None)


def empty_trash(older_than: timedelta | None = None) -> tuple[list[int], set[str]]:
    """Delete for good what lies in it, or what lies there for so long; the ids of deliverables and the digests of
    contents that go with it, for their files."""
    with database.atomic():
        jobs, sources, destinations = _in_trash(older_than)
        deliverables = [each.id for each in _kept(jobs, sources, destinations)]
        digests = {each.digest for each in _sources_of(jobs, sources)}
        touched = {each.job_id for each in sources} | {each.job_id for each in destinations}
        Destination.delete().where(Destination.id.in_([each.id for each in destinations])).execute()
        Source.delete().where(Source.id.in_([each.id for each in sources])).execute()
        Job.delete().where(Job.id.in_([each.id for each in jobs])).execute()
        Change.delete().where(Change.job.in_(list(touched))).execute()  # what they changed is not there any more
        return deliverables, digests


def _in_trash(older_than: timedelta | None) -> tuple[list[Job], list[Source], list[Destination]]:
    before = datetime.now(UTC) - (older_than or timedelta())
    return (
        list(Job.select().where(Job.trashed_at <= before)),
        list(Source.select().where(Source.trashed_at <= before)),
        list(Destination.select().where(Destination.trashed_at <= before)),
    )


def _sources_of(jobs: list[Job], sources: list[Source]) -> list[Source]:
    whole = list(Source.select().where(Source.job.in_([job.id for job in jobs]))) if jobs else []
    return [*sources, *(each for each in whole if each.id not in {source.id for source in sources})]


def _ids_of_all(jobs: list[Job], sources: list[Source]) -> list[int]:
    return [each.id for each in _sources_of(jobs, sources)] or [0]


def _kept(jobs: list[Job], sources: list[Source], destinations: list[Destination]) -> list[Deliverable]:
    """The deliverables that go with all of this."""
    of_places = [each.id for each in destinations] or [0]
    which = Deliverable.source.in_(_ids_of_all(jobs, sources)) | Deliverable.destination.in_(of_places)
    return list(Deliverable.select(Deliverable.id, Deliverable.size_bytes).where(which))
