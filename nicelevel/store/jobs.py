"""Jobs and their destinations."""

from collections.abc import Sequence
from datetime import UTC, date, datetime

from peewee import fn

from nicelevel.core.errors import SpecError

from .database import database
from .journal import enter
from .models import LONGEST_TITLE, Destination, Job, SpecVersion
from .specs import newest_version

FIRST_DESTINATIONS = ("european-broadcast", "podcast", "loud-streaming", "full-resolution")
"""What a new job begins with, in this order on its board."""


def make_job(title: str, due_on: date | None = None, slugs: Sequence[str] = FIRST_DESTINATIONS) -> Job:
    """A new job with these shipped specs as its destinations."""
    with database.atomic():
        job = Job.create(title=title, due_on=due_on)
        for slug in slugs:
            add_destination(job.id, slug)
        enter("made the job", job.id)
        return job


def all_jobs() -> list[Job]:
    """Every job that is not in the trash, the newest first, those in the archive last."""
    here = Job.select().where(Job.trashed_at.is_null())
    return list(here.order_by(Job.archived_at.is_null(False), Job.made_at.desc(), Job.id.desc()))


def find_job(job_id: int) -> Job | None:
    found: Job | None = Job.get_or_none(Job.id == job_id, Job.trashed_at.is_null())
    return found


def name_job(job: Job, title: str) -> None:
    """Call a job otherwise. Raises SpecError where nothing is left of the title."""
    Job.update(title=_title(title)).where(Job.id == job.id).execute()


def _title(text: str) -> str:
    title = text.strip()[:LONGEST_TITLE]
    if not title:
        raise SpecError("A job has a title.")
    return title


def date_job(job: Job, due_on: date | None) -> None:
    """Say when a job is due, or that it is not (None)."""
    Job.update(due_on=due_on).where(Job.id == job.id).execute()


def archive_job(job: Job, is_archived: bool) -> None:
    """Put a job that is done away from the list, or back on it."""
    Job.update(archived_at=datetime.now(UTC) if is_archived else None).where(Job.id == job.id).execute()


def destinations_of(job_id: int) -> list[Destination]:
    """Destinations of a job in their places, each with its spec version."""
    query = Destination.select(Destination, SpecVersion).join(SpecVersion)
    here = query.where(Destination.job == job_id, Destination.trashed_at.is_null())
    return list(here.order_by(Destination.place, Destination.id))


def find_destination(destination_id: int) -> Destination | None:
    query = Destination.select(Destination, SpecVersion).join(SpecVersion)
    found: Destination | None = query.where(Destination.id == destination_id).first()
    return found


def add_destination(job_id: int, slug: str, reference_id: int | None = None) -> Destination:
    """Put a spec in its newest version on the board, at the end; where it is there already, that one.

    reference_id: the source that the others are brought to, which is left out itself. Raises SpecError where no spec
    has this slug.
    """
    version = newest_version(slug)
    with database.atomic():
        last = Destination.select(fn.MAX(Destination.place)).where(Destination.job == job_id).scalar()
        row = {"job": job_id, "spec": version, "place": (last or 0) + 1, "reference": reference_id}
        # One that lies in the trash comes back.
        again = {"trashed_at": None, "place": row["place"], "reference": reference_id}
        columns, in_trash = [Destination.job, Destination.spec], Destination.trashed_at.is_null(False)
        Destination.insert(**row).on_conflict(conflict_target=columns, update=again, where=in_trash).execute()
        return Destination.get(Destination.job == job_id, Destination.spec == version)
