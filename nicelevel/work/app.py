"""The queue. Workers on any machine share it through the database; audio through a shared folder."""

from collections.abc import Iterable
from pathlib import Path

import procrastinate
import psycopg

TASKS = [
    f"nicelevel.work.{name}" for name in ("tasks", "by_rule", "sending", "sets", "differences", "arriving", "telling")
]
queue = procrastinate.App(connector=procrastinate.PsycopgConnector(), import_paths=TASKS, worker_defaults={})

WORKING, SENDING = "default", "sending"
"""Queues: a receiver that is slow holds up nothing else."""

HEARTBEAT_S = 2.0
STALLED_S = 8.0
"""A worker that was silent for so long, by the clock of the database, is taken for dead, its jobs taken over."""


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


def _note_done(connection: psycopg.Connection, names: Iterable[str]) -> None:
    for name in names:
        connection.execute("INSERT INTO queue_migration (name) VALUES (%s) ON CONFLICT DO NOTHING", (name,))


def queue_migrations() -> list[Path]:
    """The statements that the queue's makers ship for an upgrade, in their order."""
    return sorted(Path(procrastinate.schema.SchemaManager.get_migrations_path()).glob("*.sql"))


def open_queue(url: str) -> procrastinate.App:
    """The queue on a database, for a worker."""
    return queue.with_connector(procrastinate.PsycopgConnector(conninfo=url))
