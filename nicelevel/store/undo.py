"""Undoing what a person changed: kept row by row as it was before and after, and put back.

A change concerns one job (its own row, its sources, destinations, own targets, rules) or, without a job, the specs
and recipes in the trash, or the lines. Audio and files are never part of it: what is taken away lies in the trash
until that is emptied.
"""

from collections.abc import Callable, Iterator
from contextlib import contextmanager
from datetime import UTC, date, datetime
from typing import Any

from .changes import announce, announce_destination, announce_line
from .database import database
from .journal import enter
from .models import Change, Destination, IntakeRule, Job, Line, OwnTarget, RecipeInTrash, Source, SpecInTrash

Rows = dict[str, dict[str, Any]]
"""By table and key: the columns that people change, or the one value that there is."""

_COLUMNS: dict[str, tuple[type[Any], tuple[str, ...]]] = {
    "job": (Job, ("title", "due_on", "archived_at", "trashed_at")),
    "source": (
        Source,
        (
            "title",
            "place",
            "leader_id",
            "set_kind",
            "sum_check",
            "proposal",
            "sides",
            "counts",
            "recipe_json",
            "recipe_name",
            "soft_db",
            "trashed_at",
        ),
    ),
    "destination": (Destination, ("place", "reference_id", "trashed_at")),
}
_TRASH: dict[str, type[Any]] = {"spec": SpecInTrash, "recipe": RecipeInTrash}
_RULE = ("job_id", "kind", "channels", "name_has", "recipe", "mends", "renders")


@contextmanager
def changing(words: str, job_id: int | None = None) -> Iterator[None]:
    """Do what the block does as one change that can be undone. words: what it is, for a sentence."""
    with database.atomic():
        database.execute_sql("SELECT pg_advisory_xact_lock(hashtext(%s))", (f"changes of job {job_id}",))
        before = _state(job_id)
        yield
        difference = _difference(before, _state(job_id))
        if any(difference.values()):
            same = Change.job.is_null() if job_id is None else Change.job == job_id
            Change.delete().where(same, Change.undone_at.is_null(False)).execute()
            Change.create(job=job_id, words=words, on_list="job" in difference, difference=difference)
            enter(words, job_id)


def undo(job_id: int | None = None, on_list: bool = False, of_lines: bool = False) -> str | None:
    """Take the latest change back; what that was, None where there is none.

    on_list: of any job, what concerned the job as a whole; else of this job, or of the specs and recipes (None), or
    of the lines.
    """
    with database.atomic():
        change = _find(job_id, on_list, of_lines).where(Change.undone_at.is_null()).order_by(Change.id.desc()).first()
        return _put_back(change, "before", datetime.now(UTC), "took back") if change else None


def redo(job_id: int | None = None, on_list: bool = False, of_lines: bool = False) -> str | None:
    """Do again what was taken back last; what that was, None where nothing was."""
    with database.atomic():
        change = _find(job_id, on_list, of_lines).where(Change.undone_at.is_null(False)).order_by(Change.id).first()
        return _put_back(change, "after", None, "did again") if change else None


def _find(job_id: int | None, on_list: bool, of_lines: bool) -> Any:
    if on_list:
        return Change.select().where(Change.on_list)
    if job_id is None:
        is_line = Change.difference.has_key("line")
        return Change.select().where(Change.job.is_null(), is_line if of_lines else ~is_line)
    return Change.select().where(Change.job == job_id)


def _state(job_id: int | None) -> Rows:
    if job_id is None:
        trash = {
            name: {row.slug: row.trashed_at.isoformat() for row in table.select()} for name, table in _TRASH.items()
        }
        drawn = {str(row.id): {"told": row.told, "trashed_at": _as_json(row.trashed_at)} for row in Line.select()}
        return {**trash, "line": drawn}
    found: Rows = {}
    for name, (table, columns) in _COLUMNS.items():
        mine = table.id == job_id if table is Job else table.job == job_id
        found[name] = {
            str(row.id): {column: _as_json(getattr(row, column)) for column in columns}
            for row in table.select().where(mine)
        }
    targets = OwnTarget.select(OwnTarget).join(Source).where(Source.job == job_id)
    found["own_target"] = {f"{row.source_id} {row.destination_id}": row.target for row in targets}
    found["rule"] = {
        str(row.id): {column: getattr(row, column) for column in _RULE}
        for row in IntakeRule.select().where(IntakeRule.job == job_id)
    }
    return found


def _as_json(value: Any) -> Any:
    return value.isoformat() if isinstance(value, (date, datetime)) else value


def _difference(before: Rows, after: Rows) -> dict[str, dict[str, dict[str, Any]]]:
    """Of each table what is not as it was, by key: before and after; None where there was or is no row."""
    found = {}
    for table in before:
        keys = before[table].keys() | after[table].keys()
        changed = {
            key: {"before": before[table].get(key), "after": after[table].get(key)}
            for key in keys
            if before[table].get(key) != after[table].get(key)
        }
        if changed:
            found[table] = changed
    return found


def _put_back(change: Change, side: str, undone_at: datetime | None, verb: str) -> str:
    for table, rows in change.difference.items():
        for key, sides in rows.items():
            put: Callable[[str, str, Any], None] = _PUT.get(table, _put_row)
            put(table, key, sides[side])
    Change.update(undone_at=undone_at).where(Change.id == change.id).execute()
    enter(f"{verb}: {change.words}", change.job_id)
    if change.job_id is not None:
        _announce(change, change.job_id)
    return str(change.words)


def _put_row(table: str, key: str, values: dict[str, Any] | None) -> None:
    """A row that was not there goes to the trash: what belongs to it may have been made meanwhile."""
    model: Any = _COLUMNS[table][0]
    columns = {"trashed_at": datetime.now(UTC)} if values is None else values
    model.update(**columns).where(model.id == int(key)).execute()


def _put_target(table: str, key: str, target: float | None) -> None:
    source_id, destination_id = map(int, key.split())
    OwnTarget.delete().where(OwnTarget.source == source_id, OwnTarget.destination == destination_id).execute()
    both = (Source.get_or_none(Source.id == source_id), Destination.get_or_none(Destination.id == destination_id))
    if target is not None and all(both):
        OwnTarget.create(source=source_id, destination=destination_id, target=target)


def _put_in_trash(table: str, slug: str, trashed_at: str | None) -> None:
    trash = _TRASH[table]
    trash.delete().where(trash.slug == slug).execute()
    if trashed_at:
        trash.create(slug=slug, trashed_at=trashed_at)


def _put_rule(table: str, key: str, values: dict[str, Any] | None) -> None:
    IntakeRule.delete().where(IntakeRule.id == int(key)).execute()
    if values is not None:
        IntakeRule.create(id=int(key), **values)


def _put_line(table: str, key: str, values: dict[str, Any] | None) -> None:
    """A line that was not there goes to the trash: what came through it is kept."""
    columns = {"trashed_at": datetime.now(UTC)} if values is None else values
    Line.update(**columns).where(Line.id == int(key)).execute()
    announce_line(int(key))


_PUT: dict[str, Callable[[str, str, Any], None]] = {
    "own_target": _put_target,
    "rule": _put_rule,
    "line": _put_line,
    **dict.fromkeys(_TRASH, _put_in_trash),
}


def _announce(change: Change, job_id: int) -> None:
    """Tell the pages: rows by their sources, columns by their destinations; a row's place hangs on its neighbours."""
    for source in Source.select(Source.id).where(Source.job == job_id):
        announce(job_id, source.id)
    for key in change.difference.get("destination", {}):
        announce_destination(job_id, int(key))
