"""The rows of the sources of a job, kept in memory and always true: only those of which the database has another
version by now are read again.
"""

from collections.abc import Sequence
from typing import Any, NamedTuple

from peewee import SQL, fn

from .database import database, one_of
from .models import Source

ROWS_REMEMBERED = 30_000
"""In all jobs together; some three kilobytes each."""

_VERSION = SQL('"t1".xmin::text || "t1".ctid::text').alias("version")
"""PostgreSQL writes a row anew with every change: by which transaction, and where to, tells the versions of a row
apart (PostgreSQL documentation, "System Columns")."""


class Row(NamedTuple):
    """One row as it was read, its columns by name."""

    version: str
    columns: dict[str, Any]


_kept: dict[tuple[str, int], dict[int, Row]] = {}
"""By database and job, then by source; what was asked for last stands last."""


def kept_rows(job_id: int) -> list[Row]:
    """Rows of the sources on the board of a job in the order they came in, the members of a set after their leader.

    They are everybody's: nobody changes them.
    """
    place = fn.COALESCE(Source.leader, Source.id)  # by hand it is ordered on the board alone
    here = Source.select(Source.id, _VERSION).where(Source.job == job_id, Source.trashed_at.is_null())
    told = database.execute(here.order_by(place, Source.id != place, Source.id)).fetchall()
    known = _kept.get((database.database, job_id), {})
    rows = {key: known[key] for key, version in told if key in known and known[key].version == version}
    rows |= _read([key for key, _ in told if key not in rows])
    _keep(job_id, rows)
    return [rows[key] for key, _ in told if key in rows]


def as_source(row: Row) -> Source:
    """A source of one's own."""
    source = Source(__no_default__=True)
    source.__data__ = dict(row.columns)
    return source


def _read(source_ids: Sequence[int]) -> dict[int, Row]:
    """What peewee would make of thousands of rows column by column in a quarter of a second, as the driver has it."""
    if not source_ids:
        return {}
    wanted = Source.select(Source, _VERSION).where(Source.id == one_of(source_ids), Source.trashed_at.is_null())
    names = [field.name for field in Source._meta.sorted_fields]
    return {
        columns[0]: Row(columns[-1], dict(zip(names, columns[:-1], strict=True)))
        for columns in database.execute(wanted)
    }


def _keep(job_id: int, rows: dict[int, Row]) -> None:
    """Several threads do this at once: a job that one of them lets go is read again."""
    _kept.pop((database.database, job_id), None)
    _kept[database.database, job_id] = rows
    while len(_kept) > 1 and sum(len(each) for each in list(_kept.values())) > ROWS_REMEMBERED:
        _kept.pop(next(iter(list(_kept))), None)
