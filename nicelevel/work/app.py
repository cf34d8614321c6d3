"""The queue. Workers on any machine share it through the database; audio through a shared folder."""

import procrastinate
import psycopg

TASKS = [f"nicelevel.work.{name}" for name in ("tasks", "sending", "sets", "differences")]
queue = procrastinate.App(connector=procrastinate.PsycopgConnector(), import_paths=TASKS, worker_defaults={})

WORKING, SENDING = "default", "sending"
"""Queues: a receiver that is slow holds up nothing else."""

HEARTBEAT_S = 2.0
STALLED_S = 8.0
"""A worker that was silent for so long, by the clock of the database, is taken for dead, its jobs taken over."""


def prepare_queue(url: str) -> None:
    """Make the queue's own tables where they are missing."""
    with psycopg.connect(url) as connection:
        if connection.execute("SELECT to_regclass('procrastinate_jobs')").fetchone() == (None,):
            connection.execute(procrastinate.schema.SchemaManager.get_schema())


def open_queue(url: str) -> procrastinate.App:
    """The queue on a database, for a worker."""
    return queue.with_connector(procrastinate.PsycopgConnector(conninfo=url))
