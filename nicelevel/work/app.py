"""The queue. Workers on any machine share it through the database; audio through a shared folder."""

from collections.abc import Iterable
from pathlib import Path

import procrastinate
import psycopg
from psycopg.conninfo import conninfo_to_dict

TASKS = [
    f"nicelevel.work.{name}" for name in ("tasks", "by_rule", "sending", "sets", "differences", "arriving", "telling")
]
queue = procrastinate.App(connector=procrastinate.PsycopgConnector(), import_paths=TASKS, worker_defaults={})

SENDING = "sending"
"""A queue of its own, beside those of `weight.WORKING`: a receiver that is slow holds up nothing else."""

HEARTBEAT_S = 2.0
STALLED_S = 8.0
"""A worker that was silent for so long, by the clock of the database, is taken for dead, its jobs taken over."""


_FOR_MANY = (
    # Whether something else with its lock waits is asked of every job that is fetched; else the whole queue through.
    "CREATE INDEX IF NOT EXISTS nice_level_jobs_lock ON procrastinate_jobs (lock) WHERE status IN ('todo', 'doing')",
    # Where a worker goes, its jobs are looked for.
    "CREATE INDEX IF NOT EXISTS nice_level_jobs_worker ON procrastinate_jobs (worker_id) WHERE worker_id IS NOT NULL",
)
"""What the queue's own tables lack for a million entries (docs/scale.md)."""

_PLANNED_EACH_TIME = "-c plan_cache_mode=force_custom_plan"
"""Which way to the next entry is short depends on which queue is asked for: by one plan for all, a look into an empty
queue would go through all entries of the full one."""

FIRST_QUEUE = "03.04.00_50_post_add_retry_failed_job_procedure.sql"
"""The last of the queue's own migrations in the version that the first databases were made with."""


def prepare_queue(url: str) -> None:
    """Make the queue's own tables where they are missing, and bring them up to this version's by its migrations."""
    with psycopg.connect(url, autocommit=True) as connection:
        connection.execute("CREATE TABLE IF NOT EXISTS queue_migration (name text PRIMARY KEY)")
        done = {name for (name,) in connection.execute("SELECT name FROM queue_migration")}
        with connection.transaction():
            if connection.execute("SELECT to_regclass('procrastinate_jobs')").fetchone() == (None,):
                connection.execute(procrastinate.schema.SchemaManager.get_schema())
                done = {each.name for each in queue_migrations()}
            elif not done:
                done = {each.name for each in queue_migrations() if each.name <= FIRST_QUEUE}
            _note_done(connection, done)
        for migration in queue_migrations():
            if migration.name not in done:
                # Each by itself: what one adds to a type the next may only use when it is there.
                with connection.transaction():
                    connection.execute(migration.read_text())
                    _note_done(connection, [migration.name])
        for statement in _FOR_MANY:
            connection.execute(statement)


def _note_done(connection: psycopg.Connection, names: Iterable[str]) -> None:
    for name in names:
        connection.execute("INSERT INTO queue_migration (name) VALUES (%s) ON CONFLICT DO NOTHING", (name,))


def queue_migrations() -> list[Path]:
    """The statements that the queue's makers ship for an upgrade, in their order."""
    return sorted(Path(procrastinate.schema.SchemaManager.get_migrations_path()).glob("*.sql"))


def open_queue(url: str) -> procrastinate.App:
    """The queue on a database, for a worker."""
    # What is asked for is short: one connection is enough for it most of the time, and the server has not so many.
    options = f"{conninfo_to_dict(url).get('options', '')} {_PLANNED_EACH_TIME}".strip()
    connector = procrastinate.PsycopgConnector(conninfo=url, kwargs={"options": options}, min_size=1, max_size=4)
    return queue.with_connector(connector)
