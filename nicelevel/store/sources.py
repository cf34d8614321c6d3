"""Sources of a job, from taken in to measured."""

from collections.abc import Sequence
from datetime import datetime
from pathlib import PurePath
from typing import Any

from peewee import fn

from nicelevel.core.measure import METER_VERSION

from .changes import announce
from .database import database
from .models import Deliverable, Job, Reading, Source
from .tries import begin_try, save_in_try

_LONGEST_TITLE = 200

UNMEASURED = ("queued", "measuring")


def add_source(
    job_id: int,
    file_name: str,
    digest: str,
    size_bytes: int,
    title: str | None = None,
    kind: str = "mix",
    changed_at: datetime | None = None,
) -> Source:
    """A new source, waiting to be measured; changed_at: when its file was last changed."""
    title = title or PurePath(file_name).stem or file_name
    row = {"file_name": file_name[:255], "title": title[:_LONGEST_TITLE], "digest": digest, "kind": kind}
    source = Source.create(job=job_id, size_bytes=size_bytes, changed_at=changed_at, **row)
    announce(job_id, source.id)
    return source


def sources_of(job_id: int) -> list[Source]:
    """Sources of a job in the order they came in, the members of a set after their leader."""
    place = fn.COALESCE(Source.leader, Source.id)
    return list(Source.select().where(Source.job == job_id).order_by(place, Source.id != place, Source.id))


def link_set(leader: Source, members: Sequence[Source], kind: str) -> None:
    """Let sources take the gain of one; those that are already in a set go into this one.

    kind: "sum" where they are parts of what the leader is and take its curve too, "album" where they are tracks.
    """
    with database.atomic():
        ids = [each.id for each in members if each.id != leader.id and each.job_id == leader.job_id]
        Source.update(leader=None, sum_check=None, set_kind=kind).where(Source.id == leader.id).execute()
        fresh = {"leader": leader.id, "sum_check": None, "set_kind": None}
        Source.update(**fresh).where(Source.id.in_(ids) | Source.leader.in_(ids)).execute()
        _announce_set(leader, ids)


def unlink_set(source: Source) -> None:
    """End the set that a source leads or belongs to."""
    with database.atomic():
        leader_id = source.leader_id or source.id
        ids = [each.id for each in Source.select(Source.id).where(Source.leader == leader_id)]
        Source.update(leader=None).where(Source.leader == leader_id).execute()
        Source.update(sum_check=None, set_kind=None).where(Source.id == leader_id).execute()
        _announce_set(source, [leader_id, *ids])


def members_of(leader_id: int) -> list[Source]:
    """The members of a set, in their order."""
    return list(Source.select().where(Source.leader == leader_id).order_by(Source.id))


def save_sum_check(leader: Source, found: dict[str, Any]) -> None:
    """Keep whether the members of a set add up to their leader."""
    with database.atomic():
        Source.update(sum_check=found).where(Source.id == leader.id).execute()
        announce(leader.job_id, leader.id)


def _announce_set(source: Source, ids: Sequence[int]) -> None:
    for each in {source.id, *ids}:
        announce(source.job_id, each)


def find_source(source_id: int) -> Source | None:
    return Source.select(Source, Job).join(Job).where(Source.id == source_id).first()


def outdated_sources() -> list[Source]:
    """Measured sources whose reading was made by an earlier meter."""
    present = Reading.select(Reading.digest).where(Reading.meter_version == METER_VERSION)
    return list(Source.select().where(Source.state == "measured", Source.digest.not_in(present)))


def lost_sources(digest: str) -> list[Source]:
    """Sources with these contents whose audio was found missing."""
    return list(Source.select().where(Source.digest == digest, Source.state == "failed", Source.error_code == "lost"))


def remove_source(source: Source) -> list[int]:
    """Take a source out of its job with its deliverables; the ids of those, for their files."""
    with database.atomic():
        gone = [row.id for row in Deliverable.select(Deliverable.id).where(Deliverable.source == source.id)]
        Source.delete().where(Source.id == source.id).execute()
        announce(source.job_id, source.id)
        return gone


def begin_source(source: Source) -> bool:
    """Begin a try at measuring; False where nobody wants it any more."""
    with database.atomic():
        begun = begin_try(source, UNMEASURED, state="measuring", progress_ratio=0.0)
        announce(source.job_id, source.id)
    return begun


def save_source(source: Source, state: str, **columns: Any) -> bool:
    """What a try says of its source; False where it was taken out or has been begun anew meanwhile."""
    with database.atomic():
        saved = save_in_try(source, UNMEASURED, state=state, **columns)
        announce(source.job_id, source.id)
    return saved


def end_source(source: Source, error_code: str, error_message: str, among: Sequence[str] = UNMEASURED) -> bool:
    """Say from outside that a source cannot be used, whatever try there is."""
    return _change(source, among, state="failed", error_code=error_code, error_message=error_message)


def queue_source(source: Source) -> bool:
    """Let a source wait to be measured, where it is not waiting or being measured."""
    fresh = {"progress_ratio": 0.0, "error_code": None, "error_message": None}
    return _change(source, ("measured", "failed"), state="queued", **fresh)


def _change(source: Source, among: Sequence[str], **columns: Any) -> bool:
    with database.atomic():
        changed = Source.update(**columns).where(Source.id == source.id, Source.state.in_(among)).execute()
        announce(source.job_id, source.id)
    return bool(changed)
