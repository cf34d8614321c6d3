"""What is being rendered, what waits, what ended."""

from collections.abc import Collection, Sequence
from datetime import datetime
from typing import Any, NamedTuple

from .database import database
from .deliverables import with_names
from .models import Deliverable, Source

ENDED = ("proved", "missed", "failed", "stopped")
LOCK_OF_DELIVERABLE = "deliverable {}"
"""The lock of its entry on the queue. What was stopped and is done again has two for a while, not done at once."""

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


class Kind(NamedTuple):
    """Deliverables of one format of a spec that wait: how many are waiting, and how long their audio is together."""

    spec_id: int
    output: str
    waiting: int
    audio_s: float


class DoneLately(NamedTuple):
    """A deliverable that was written: its length, and when."""

    spec_id: int
    output: str
    audio_s: float | None
    started_at: datetime
    finished_at: datetime


def unfinished(most: int) -> list[Unfinished]:
    """What is being rendered, then so many of what waits, in the order in which it will be done."""
    next_ids = _next_on_queue(most)
    columns = (
        *(Deliverable.id, Deliverable.state, Deliverable.spec, Deliverable.output),
        *(Source.digest, Deliverable.progress_ratio, Deliverable.started_at),
    )
    query = Deliverable.select(*columns).join(Source)
    rendering: list[Any] = list(query.where(Deliverable.state == "rendering").order_by(Deliverable.id).tuples())
    rows: list[Any] = list(query.where(Deliverable.state == "queued", Deliverable.id.in_(next_ids)).tuples())
    waiting = {row[0]: Unfinished(*row) for row in rows}
    return [*(Unfinished(*row) for row in rendering), *(waiting[key] for key in next_ids if key in waiting)]


def _next_on_queue(most: int) -> list[int]:
    """The next that wait to be rendered, as the queue has them: from its own index, however many there are."""
    rows = database.execute_sql(
        "SELECT d.id FROM procrastinate_jobs j JOIN deliverable d ON d.id = (j.args->>'deliverable_id')::bigint"
        " WHERE j.status = 'todo' AND j.task_name = 'render_deliverable' AND d.state = 'queued'"
        " ORDER BY j.priority DESC, j.id LIMIT %s",
        (most,),
    )
    return [key for (key,) in rows.fetchall()]


def waiting_kinds() -> list[Kind]:
    """All that waits, by what tells how long it takes."""
    rows = database.execute_sql(
        "SELECT spec_id, output, sum(count)::bigint, coalesce(sum(count * audio_s), 0) FROM"
        " (SELECT source_id, spec_id, output, count(*) FROM deliverable WHERE state = 'queued'"
        " GROUP BY source_id, spec_id, output) AS waiting JOIN source ON source.id = source_id"
        " LEFT JOIN LATERAL (SELECT (figures->'source'->>'frames')::float"
        " / (figures->'source'->>'sample_rate_hz')::float AS audio_s FROM reading"
        " WHERE reading.digest = source.digest OFFSET 0) AS measured ON true GROUP BY spec_id, output"
    )
    return [Kind(*row) for row in rows.fetchall()]


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


def prefer(job_id: int, source_ids: Collection[int]) -> None:
    """Let what waits for these sources of a job be rendered before what waits for its others."""
    ids = list(source_ids)
    with database.atomic():
        database.execute_sql(
            "UPDATE procrastinate_jobs j SET priority = 0 FROM deliverable d JOIN source s ON s.id = d.source_id"
            " WHERE j.status = 'todo' AND j.priority = %s AND j.task_name = 'render_deliverable'"
            " AND d.id = (j.args->>'deliverable_id')::bigint AND s.job_id = %s AND NOT d.source_id = ANY(%s)",
            (SEEN_PRIORITY, job_id, ids),
        )
        database.execute_sql(
            "UPDATE procrastinate_jobs j SET priority = %s FROM deliverable d JOIN source s ON s.id = d.source_id"
            " WHERE j.status = 'todo' AND j.priority = 0 AND j.lock = %s || d.id AND d.state = 'queued'"
            " AND s.job_id = %s AND d.source_id = ANY(%s)",
            (SEEN_PRIORITY, LOCK_OF_DELIVERABLE.format(""), job_id, ids),
        )
