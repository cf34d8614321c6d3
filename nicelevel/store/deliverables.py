"""Deliverables, from queued to proved."""

from collections.abc import Collection, Iterable, Sequence
from datetime import UTC, datetime
from pathlib import Path, PurePosixPath
from typing import Any, NamedTuple

from peewee import EXCLUDED, chunked

from nicelevel.core.words import counted

from .changes import announce, announce_all, change_of
from .database import database
from .journal import enter
from .models import Deliverable, Destination, Job, Source, SpecVersion
from .tries import begin_try, save_in_try

UNFINISHED = ("queued", "rendering")
KEPT_FILES = ("proved", "missed")

_OF_RESULT = (
    *("error_code", "error_message", "file_name", "sha256", "size_bytes"),
    *("measured", "findings", "started_at", "finished_at"),
)
ROWS_AT_ONCE = 500

FILE_LOST = "Its file is missing from the data folder; it can be rendered again."
FILE_CHANGED = "Its file is not as it was proved any more; it can be rendered again."


class Asked(NamedTuple):
    """A deliverable that is asked for. output: its key; plan: what is asked for, as JSON."""

    source: Source
    destination: Destination
    output: str
    plan: dict[str, Any] | None = None
    plan_digest: str | None = None


def queue_deliverable(asked: Asked) -> Deliverable | None:
    """A deliverable waiting to be rendered; None where it is already waiting or being rendered."""
    return next(iter(queue_deliverables([asked])), None)


def queue_deliverables(asked: Sequence[Asked]) -> list[Deliverable]:
    """The same of many, without those that are waiting or being rendered already."""
    sources = {each.source.id: each.source for each in asked}
    queued: list[Deliverable] = []
    with database.atomic():
        for some in chunked(asked, ROWS_AT_ONCE):
            queued += _queue_rows(some)
        announce_all((source.job_id, source.id) for source in sources.values())
    for each in queued:
        each.source = sources[each.source_id]
    return queued


def _queue_rows(asked: Sequence[Asked]) -> list[Deliverable]:
    fresh = {
        **dict.fromkeys(_OF_RESULT),
        "state": "queued",
        "progress_ratio": 0.0,
        "queued_at": datetime.now(UTC),
    }
    rows = [
        {
            **fresh,
            "source": each.source.id,
            "destination": each.destination.id,
            "spec": each.destination.spec_id,
            "output": each.output,
            "plan": each.plan,
            "plan_digest": each.plan_digest,
        }
        for each in asked
    ]
    key = [Deliverable.source, Deliverable.destination, Deliverable.output]
    columns = [getattr(Deliverable, name) for name in (*fresh, "spec", "plan", "plan_digest")]
    query = Deliverable.insert_many(rows).on_conflict(
        conflict_target=key,
        update={column: EXCLUDED[column.column_name] for column in columns},
        where=Deliverable.state.not_in(UNFINISHED),
    )
    return list(query.returning(Deliverable))


def deliverables_of(
    job_id: int, states: Iterable[str] | None = None, source_ids: Collection[int] | None = None
) -> list[Deliverable]:
    """Deliverables of a job, or of some sources of it, by source and destination."""
    query = (
        Deliverable.select(Deliverable, Source, Job, Destination)
        .join(Source)
        .join(Job)
        .switch(Deliverable)
        .join(Destination)
        .where(Source.job == job_id, Source.trashed_at.is_null(), Destination.trashed_at.is_null())
        .order_by(Deliverable.source, Deliverable.destination, Deliverable.id)
    )
    query = query if source_ids is None else query.where(Source.id.in_(list(source_ids)))
    return list(query.where(Deliverable.state.in_(list(states))) if states else query)


def with_names() -> Any:
    """The query of deliverables with source, job, destination and the spec version that each is made for."""
    return (
        Deliverable.select(Deliverable, Source, Job, Destination, SpecVersion)
        .join(Source)
        .join(Job)
        .switch(Deliverable)
        .join(Destination)
        .switch(Deliverable)
        .join(SpecVersion)
    )


def find_deliverable(deliverable_id: int) -> Deliverable | None:
    """A deliverable with all that it belongs to."""
    found: Deliverable | None = with_names().where(Deliverable.id == deliverable_id).first()
    return found


def unfinished_of(digest: str) -> list[Deliverable]:
    """All that waits or is being rendered of sources with these contents."""
    return list(with_names().where(Source.digest == digest, Deliverable.state.in_(UNFINISHED)))


def begin_deliverable(deliverable: Deliverable) -> bool:
    """Begin a try at rendering; False where nobody wants it any more."""
    told, now = change_of(deliverable.source.job_id, deliverable.source_id), datetime.now(UTC)
    return begin_try(deliverable, UNFINISHED, told, state="rendering", progress_ratio=0.0, started_at=now)


def save_deliverable(deliverable: Deliverable, state: str, **columns: Any) -> bool:
    """What a try says of its deliverable; False where it was stopped or has been begun anew meanwhile."""
    if state not in UNFINISHED:
        columns.setdefault("finished_at", datetime.now(UTC))
    told = change_of(deliverable.source.job_id, deliverable.source_id)
    return save_in_try(deliverable, UNFINISHED, told, state=state, **columns)


def tell_deliverable(deliverable: Deliverable, progress_ratio: float) -> bool:
    """How far a try is (`progress`); False as above."""
    return save_in_try(deliverable, UNFINISHED, state="rendering", progress_ratio=progress_ratio)


def end_deliverable(deliverable: Deliverable, state: str, **columns: Any) -> bool:
    """End whatever try there is from outside: stopped by somebody, or failed with its worker; False where none is."""
    return _change(deliverable, UNFINISHED, state=state, finished_at=datetime.now(UTC), **columns)


def lose_deliverable(deliverable: Deliverable, sentence: str) -> bool:
    """Say of a written file that it is not there any more, or not as it was proved: it can be rendered again.

    False where it has been rendered anew meanwhile: then another file is meant.
    """
    same_try = Deliverable.token.is_null() if deliverable.token is None else Deliverable.token == deliverable.token
    return _change(deliverable, KEPT_FILES, same_try, state="failed", error_code="lost", error_message=sentence)


def _change(deliverable: Deliverable, among: Sequence[str], *conditions: Any, **columns: Any) -> bool:
    with database.atomic():
        query = Deliverable.update(**columns)
        changed = query.where(Deliverable.id == deliverable.id, Deliverable.state.in_(among), *conditions).execute()
        announce(deliverable.source.job_id, deliverable.source_id)
    return bool(changed)


def stop_deliverables(job_id: int | None = None) -> int:
    """Stop everything of a job, or of all, that waits or is being rendered; how many that were."""
    sources = Source.select(Source.id)
    sources = sources if job_id is None else sources.where(Source.job == job_id)
    with database.atomic():
        stopped = stop_those(Deliverable.source.in_(sources))
        for source in Source.select(Source.id, Source.job).where(Source.id.in_(set(stopped))) if stopped else ():
            announce(source.job_id, source.id)
        if stopped:
            enter(f"stopped {counted(len(stopped), 'rendering')}", job_id)
    return len(stopped)


def stop_those(which: Any) -> list[int]:
    """Stop what waits or is being rendered of the deliverables that a condition names; the sources of those."""
    ended = {"state": "stopped", "finished_at": datetime.now(UTC)}
    query = Deliverable.update(**ended).where(which, Deliverable.state.in_(UNFINISHED))
    return [row.source_id for row in query.returning(Deliverable)]


def file_of(deliverable: Deliverable, folder: Path) -> Path:
    """Where the file of a deliverable stands; the folders of its name are made where it is handed over."""
    return try_folder(deliverable, folder) / PurePosixPath(str(deliverable.file_name)).name


def try_folder(deliverable: Deliverable, folder: Path) -> Path:
    """The folder that belongs to one try at a deliverable alone; files of before tries had tokens stand above it."""
    home = home_of(deliverable.id, folder)
    return home if deliverable.token is None else home / str(deliverable.token)


def home_of(deliverable_id: int, folder: Path) -> Path:
    """The folder that belongs to one deliverable alone, so that broken tries can be swept out."""
    return folder / str(deliverable_id)
