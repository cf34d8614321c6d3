"""Telling whoever listens that something of a job has changed, through PostgreSQL itself.

The message goes out with the transaction that made the change, to every process on every machine.
"""

import json

from .database import database

CHANNEL = "nice_level_changes"


def announce(job_id: int, source_id: int) -> None:
    """Say that a source of a job, or one of its deliverables, has changed."""
    message = json.dumps({"job": job_id, "source": source_id})
    database.execute_sql("SELECT pg_notify(%s, %s)", (CHANNEL, message))
