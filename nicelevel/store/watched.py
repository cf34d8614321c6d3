"""What is seen of the work from outside: how much waits and for how long, how long it took, what failed."""

from typing import NamedTuple

from .database import database


class Waiting(NamedTuple):
    """Of one task on the queue: how many wait and run, and how long the oldest has waited."""

    task: str
    waiting: int
    running: int
    oldest_s: float


class Took(NamedTuple):
    """What ended within the last hour in a state, and how long it was rendered: median and 95 of 100, in seconds."""

    state: str
    ended: int
    median_s: float | None
    most_s: float | None


class LineToday(NamedTuple):
    """Of a line since a time: what came late, what never came, what is held."""

    line: str
    late: int
    missing: int
    held: int


def waiting_tasks() -> list[Waiting]:
    # The oldest has the lowest number; when it was put on the queue is the first of its events.
    rows = database.execute_sql(
        "SELECT task_name, waiting, running, coalesce((SELECT extract(epoch FROM now() - min(at))"
        " FROM procrastinate_events WHERE job_id = oldest), 0)"
        " FROM (SELECT task_name, count(*) FILTER (WHERE status = 'todo') AS waiting,"
        " count(*) FILTER (WHERE status = 'doing') AS running,"
        " min(id) FILTER (WHERE status = 'todo' AND (scheduled_at IS NULL OR scheduled_at <= now())) AS oldest"
        " FROM procrastinate_jobs WHERE status IN ('todo', 'doing') GROUP BY task_name) AS counted ORDER BY task_name"
    )
    return [Waiting(task, waiting, running, float(oldest_s)) for task, waiting, running, oldest_s in rows.fetchall()]


def rendered_lately() -> list[Took]:
    rows = database.execute_sql(
        "SELECT state, count(*), percentile_cont(0.5) WITHIN GROUP (ORDER BY took), percentile_cont(0.95)"
        " WITHIN GROUP (ORDER BY took) FROM (SELECT state, extract(epoch FROM finished_at - started_at) AS took"
        " FROM deliverable WHERE finished_at > now() - interval '1 hour') AS ended GROUP BY state ORDER BY state"
    )
    return [Took(state, count, _number(median), _number(most)) for state, count, median, most in rows.fetchall()]


def lines_lately(hours: int = 24) -> list[LineToday]:
    rows = database.execute_sql(
        "SELECT line.told->>'name', count(*) FILTER (WHERE is_late), count(*) FILTER (WHERE state = 'missing'),"
        " count(*) FILTER (WHERE state = 'held') FROM arrival JOIN line ON line.id = line_id"
        " WHERE trashed_at IS NULL AND arrived_at > now() - make_interval(hours => %s)"
        " GROUP BY line.id ORDER BY line.id",
        (hours,),
    )
    return [LineToday(*row) for row in rows.fetchall()]


def is_waiting() -> bool:
    """Whether anything waits on the queue that could be done now."""
    rows = database.execute_sql(
        "SELECT EXISTS (SELECT 1 FROM procrastinate_jobs WHERE status = 'todo'"
        " AND (scheduled_at IS NULL OR scheduled_at <= now()))"
    )
    return bool(rows.fetchone()[0])


def workers_alive(silent_s: float) -> int:
    """Workers that have said that they live within so long. Each says so twice: one part of it sends."""
    rows = database.execute_sql(
        "SELECT (count(*) + 1) / 2 FROM procrastinate_workers"
        " WHERE last_heartbeat > now() - make_interval(secs => %s)",
        (silent_s,),
    )
    return int(rows.fetchone()[0])


def _number(found: object) -> float | None:
    return None if found is None else float(str(found))
