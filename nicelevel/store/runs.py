"""What is being rendered, what waits, what ended."""

from collections.abc import Collection, Sequence
from datetime import datetime
from typing import Any, NamedTuple

from .database import database
from .deliverables import UNFINISHED, with_names
from .models import Deliverable, Source

ENDED = ("proved", "missed", "failed", "stopped")
SEEN_PRIORITY = 2
"""Of what belongs to rows on somebody's screen, among what waits to be rendered (0)."""


class Unfinished(NamedTuple):
    """A deliverable that is being rendered or waits."""

    id: int
    state: str
    spec_id: int
    output: str
    digest: str
    progress_ratio: float
    started_at: datetime | None
    queued_at: datetime


class DoneLately(NamedTuple):
    """A deliverable that was written: its length, and when."""

    spec_id: int
    output: str
    audio_s: float | None
    started_at: datetime
    finished_at: datetime


def unfinished() -> list[Unfinished]:
    """All that is being rendered or waits, in no order."""
    query = (
        Deliverable.select(
            Deliverable.id,
            Deliverable.state,
            Deliverable.spec,
            Deliverable.output,
            Source.digest,
            Deliverable.progress_ratio,
            Deliverable.started_at,
            Deliverable.queued_at,
        )
        .join(Source)
        .where(Deliverable.state.in_(UNFINISHED))
    )
    rows: list[Any] = list(query.tuples())
    return [Unfinished(*row) for row in rows]


def priorities() -> dict[int, int]:
    """Of what waits on the queue, by deliverable."""
    rows = database.execute_sql(
        "SELECT (args->>'deliverable_id')::bigint, priority FROM procrastinate_jobs "
        "WHERE status = 'todo' AND task_name = 'render_deliverable'"
    )
    return dict(rows.fetchall())


def named(deliverable_ids: Sequence[int]) -> list[Deliverable]:
    """These deliverables with source, job, destination and spec, in the order given."""
    found = {each.id: each for each in with_names().where(Deliverable.id.in_(list(deliverable_ids)))}
    return [found[key] for key in deliverable_ids if key in found]


def ended_lately(count: int) -> list[Deliverable]:
    """What ended last, the latest first."""
    query = with_names().where(Deliverable.state.in_(ENDED), Deliverable.finished_at.is_null(False))
    return list(query.order_by(Deliverable.finished_at.desc(), Deliverable.id.desc()).limit(count))


def done_lately() -> list[DoneLately]:
    """What was written last."""
    query = (
        Deliverable.select(
            Deliverable.spec,
            Deliverable.output,
            Deliverable.measured["duration_s"].as_json().alias("audio_s"),
            Deliverable.started_at,
            Deliverable.finished_at,
        )
        .where(Deliverable.state.in_(("proved", "missed")), Deliverable.started_at.is_null(False))
        .order_by(Deliverable.finished_at.desc())
        .limit(200)
    )
    rows: list[Any] = list(query.tuples())
    return [DoneLately(*row) for row in rows]


def worker_count() -> int:
    """Workers that are alive."""
    return int(database.execute_sql("SELECT COUNT(*) FROM procrastinate_workers").fetchone()[0])


def prefer(job_id: int, source_ids: Collection[int]) -> None:
    """Let what waits for these sources of a job be rendered before what waits for its others."""
    database.execute_sql(
        """
        UPDATE procrastinate_jobs j SET priority = CASE WHEN d.source_id = ANY(%s) THEN %s ELSE 0 END
        FROM deliverable d JOIN source s ON s.id = d.source_id
        WHERE j.status = 'todo' AND j.task_name = 'render_deliverable'
          AND (j.args->>'deliverable_id')::bigint = d.id AND s.job_id = %s
        """,
        (list(source_ids), SEEN_PRIORITY, job_id),
    )
