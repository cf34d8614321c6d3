"""Jobs and their destinations."""

from collections.abc import Sequence
from datetime import date

from peewee import fn

from .database import database
from .models import Destination, Job, SpecVersion
from .specs import newest_version

FIRST_DESTINATIONS = ("european-broadcast", "podcast", "loud-streaming", "full-resolution")
"""What a new job begins with, in this order on its board."""


def make_job(title: str, due_on: date | None = None, slugs: Sequence[str] = FIRST_DESTINATIONS) -> Job:
    """A new job with these shipped specs as its destinations."""
    with database.atomic():
        job = Job.create(title=title, due_on=due_on)
        for slug in slugs:
            add_destination(job.id, slug)
        return job


def all_jobs() -> list[Job]:
    """Every job, the newest first."""
    return list(Job.select().order_by(Job.made_at.desc(), Job.id.desc()))


def find_job(job_id: int) -> Job | None:
    return Job.get_or_none(Job.id == job_id)


def delete_job(job: Job) -> tuple[list[int], set[str]]:
    """Delete a job with its sources and deliverables; the ids and digests of those, for their files."""
    from .models import Deliverable, Source

    with database.atomic():
        digests = {source.digest for source in Source.select(Source.digest).where(Source.job == job.id)}
        query = Deliverable.select(Deliverable.id).join(Source).where(Source.job == job.id)
        gone = [row.id for row in query]
        Job.delete().where(Job.id == job.id).execute()
        return gone, digests


def destinations_of(job_id: int) -> list[Destination]:
    """Destinations of a job in their places, each with its spec version."""
    query = Destination.select(Destination, SpecVersion).join(SpecVersion)
    return list(query.where(Destination.job == job_id).order_by(Destination.place, Destination.id))


def find_destination(destination_id: int) -> Destination | None:
    query = Destination.select(Destination, SpecVersion).join(SpecVersion)
    return query.where(Destination.id == destination_id).first()


def add_destination(job_id: int, slug: str, reference_id: int | None = None) -> Destination:
    """Put a spec in its newest version on the board, at the end; where it is there already, that one.

    reference_id: the source that the others are brought to, which is left out itself. Raises SpecError where no spec
    has this slug.
    """
    version = newest_version(slug)
    with database.atomic():
        last = Destination.select(fn.MAX(Destination.place)).where(Destination.job == job_id).scalar()
        row = {"job": job_id, "spec": version, "place": (last or 0) + 1, "reference": reference_id}
        Destination.insert(**row).on_conflict_ignore().execute()
        return Destination.get(Destination.job == job_id, Destination.spec == version)


def remove_destination(destination_id: int) -> list[int]:
    """Take a destination off the board with its deliverables; the ids of those, for their files."""
    from .models import Deliverable

    with database.atomic():
        query = Deliverable.select(Deliverable.id).where(Deliverable.destination == destination_id)
        gone = [row.id for row in query]
        Destination.delete().where(Destination.id == destination_id).execute()
        return gone
