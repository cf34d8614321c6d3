"""Sources of a job, from taken in to measured."""

from collections.abc import Sequence
from datetime import datetime
from pathlib import PurePath
from typing import Any

from nicelevel.core.measure import METER_VERSION

from .changes import announce, change_of
from .database import database
from .kept_sources import as_source, kept_rows
from .models import LONGEST_TITLE, Job, OwnTarget, Reading, Source
from .sides import beside
from .tries import begin_try, save_in_try

UNMEASURED = ("queued", "measuring")


def add_source(
    job_id: int,
    file_name: str,
    digest: str,
    size_bytes: int,
    title: str | None = None,
    kind: str = "mix",
    changed_at: datetime | None = None,
    replaces: Source | None = None,
) -> Source:
    """A new source, waiting to be measured.

    changed_at: when its file was last changed; replaces: the source that it is to stand for, whose title it takes.
    """
    title = title or (replaces.title if replaces else PurePath(file_name).stem or file_name)
    row = {"file_name": file_name[:255], "title": title[:LONGEST_TITLE], "digest": digest, "kind": kind}
    source = Source.create(job=job_id, size_bytes=size_bytes, changed_at=changed_at, replaces=replaces, **row)
    announce(job_id, source.id)
    return source


def give_recipe(source: Source, recipe_json: str | None, name: str | None, soft_db: float = 0.0) -> None:
    """Keep the steps that are done to a source first, None for none, and what is wished of limiters."""
    Source.update(recipe_json=recipe_json, recipe_name=name, soft_db=soft_db).where(Source.id == source.id).execute()
    announce(source.job_id, source.id)
    for member in Source.select(Source.id).where(Source.leader == source.id):
        announce(source.job_id, member.id)


def take_under_rules(source: Source) -> bool:
    """Mark that the rules of its job are asked for a source; False where they were before."""
    query = Source.update(is_ruled=True).where(Source.id == source.id, ~Source.is_ruled)
    return bool(query.execute())


def rule_again(source: Source) -> Source:
    """A source as if the rules of its job had not been asked for it."""
    Source.update(is_ruled=False).where(Source.id == source.id).execute()
    source.is_ruled = False
    return source


def prepared_sources(recipe_name: str) -> list[Source]:
    """The sources on any board that are prepared under a name."""
    return list(Source.select().where(Source.recipe_name == recipe_name, Source.trashed_at.is_null()))


def same_file(job_id: int, file_name: str, digest: str) -> Source | None:
    """The source of a job that is this very file: the same name and the same contents."""
    here = Source.trashed_at.is_null()
    wanted = (Source.job == job_id, Source.file_name == file_name[:255], Source.digest == digest, here)
    found: Source | None = Source.select().where(*wanted).order_by(Source.id).first()
    return found


def take_place(source: Source) -> None:
    """Put a source in the place of the one that it replaces: its set, steps and own targets. Safe to do twice."""
    old = source.replaces
    if old is None or old.job_id != source.job_id:
        return
    with database.atomic():
        for own in OwnTarget.select().where(OwnTarget.source == old.id):
            row = {"source": source.id, "destination": own.destination_id, "target": own.target}
            OwnTarget.insert(**row).on_conflict_ignore().execute()
        if old.recipe_name:
            given = {"recipe_json": old.recipe_json, "recipe_name": old.recipe_name, "soft_db": old.soft_db}
            Source.update(**given).where(Source.id == source.id, Source.recipe_name.is_null()).execute()
        if old.leader_id:
            Source.update(leader=old.leader_id).where(Source.id == source.id).execute()
            Source.update(leader=None).where(Source.id == old.id).execute()
            Source.update(sum_check=None).where(Source.id == old.leader_id).execute()
        if old.set_kind:
            Source.update(set_kind=old.set_kind).where(Source.id == source.id).execute()
            Source.update(leader=source.id).where(Source.leader == old.id).execute()
            Source.update(set_kind=None, sum_check=None).where(Source.id == old.id).execute()
        for each in (old.id, source.id):
            announce(source.job_id, each)


def sources_of(job_id: int) -> list[Source]:
    """Sources on the board of a job in the order they came in, the members of a set after their leader."""
    return [as_source(row) for row in kept_rows(job_id)]


def name_source(source: Source, title: str) -> None:
    """Call a source otherwise; without a title it is called by its file again."""
    called = title.strip() or PurePath(source.file_name).stem or source.file_name
    with database.atomic():
        Source.update(title=called[:LONGEST_TITLE]).where(Source.id == source.id).execute()
        announce(source.job_id, source.id)


def order_sources(job_id: int, source_ids: Sequence[int]) -> None:
    """Put the sources of a board in this order."""
    with database.atomic():
        for place, source_id in enumerate(source_ids):
            Source.update(place=place).where(Source.id == source_id, Source.job == job_id).execute()
            announce(job_id, source_id)


def find_source(source_id: int) -> Source | None:
    found: Source | None = Source.select(Source, Job).join(Job).where(Source.id == source_id).first()
    return found


def outdated_sources() -> list[Source]:
    """Measured sources whose reading was made by an earlier meter."""
    present = Reading.select(Reading.digest).where(Reading.meter_version == METER_VERSION)
    return list(Source.select().where(Source.state == "measured", Source.digest.not_in(present)))


def lost_sources(digest: str) -> list[Source]:
    """Sources with these contents, by themselves or as a side, whose audio was found missing."""
    whole = [digest, *beside(digest)]
    return list(
        Source.select().where(Source.digest.in_(whole), Source.state == "failed", Source.error_code == "lost")
    )


def begin_source(source: Source) -> bool:
    """Begin a try at measuring; False where nobody wants it any more."""
    told = change_of(source.job_id, source.id)
    return begin_try(source, UNMEASURED, told, state="measuring", progress_ratio=0.0)


def save_source(source: Source, state: str, **columns: Any) -> bool:
    """What a try says of its source; False where it was taken out or has been begun anew meanwhile."""
    return save_in_try(source, UNMEASURED, change_of(source.job_id, source.id), state=state, **columns)


def tell_source(source: Source, progress_ratio: float) -> bool:
    """How far a try is (`progress`); False as above."""
    return save_in_try(source, UNMEASURED, state="measuring", progress_ratio=progress_ratio)


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
