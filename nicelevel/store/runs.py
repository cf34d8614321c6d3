"""What is being rendered, what waits, what ended; and how long such work takes."""

from collections.abc import Collection, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime
from typing import Any

from nicelevel.core.pace import ToDo, Took, paces, time_left_s

from .audio import AudioFolder
from .database import database
from .deliverables import UNFINISHED, with_names
from .models import Deliverable, Source
from .readings import load_figures

ENDED = ("proved", "missed", "failed", "stopped")
SEEN_PRIORITY = 2
"""Of what belongs to rows on somebody's screen, among what waits to be rendered (0)."""


@dataclass(frozen=True)
class UnderWay:
    """A deliverable that is being rendered or waits, and in how many seconds it is done (None: cannot be told)."""

    deliverable_id: int
    state: str
    end_s: float | None


def under_way(audio: AudioFolder, at_once: int) -> list[UnderWay]:
    """What is being rendered, then what waits, in the order in which it will be done, so many at once."""
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
    found: list[Any] = list(query.tuples())
    if not found:
        return []
    priorities = _priorities()
    rows = sorted(found, key=lambda row: (row[1] != "rendering", -priorities.get(row[0], 0), row[7], row[0]))
    to_do = [_to_do(row, audio) for row in rows]
    ends = time_left_s(to_do, paces(_done_lately()), at_once)
    return [UnderWay(row[0], row[1], end_s) for row, end_s in zip(rows, ends, strict=True)]


def _to_do(row: tuple[Any, ...], audio: AudioFolder) -> ToDo:
    _, _, spec_id, output, digest, progress_ratio, started_at, _ = row
    audio_s = load_figures(digest, audio).source.duration_s
    if started_at is None:
        return ToDo((spec_id, output), audio_s)
    return ToDo((spec_id, output), audio_s, progress_ratio, (datetime.now(UTC) - started_at).total_seconds())


def _priorities() -> dict[int, int]:
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


def _done_lately() -> list[Took]:
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
    done: list[Any] = list(query.tuples())
    return [
        Took((spec, output), audio_s, (finished - started).total_seconds())
        for spec, output, audio_s, started, finished in done
        if audio_s
    ]


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
