"""Telling whoever listens that something of a job has changed, through PostgreSQL itself.

The message goes out with the transaction that made the change, to every process on every machine.
"""

import json
from collections.abc import Iterable
from typing import Any

from peewee import fn

from .database import database

CHANNEL = "nice_level_changes"


def announce(job_id: int, source_id: int) -> None:
    """Say that a source of a job, or one of its deliverables, has changed."""
    _say({"job": job_id, "source": source_id})


def announce_all(places: Iterable[tuple[int, int]]) -> None:
    """The same of many, each a job and a source, by one statement."""
    messages = [json.dumps({"job": job_id, "source": source_id}) for job_id, source_id in places]
    database.execute_sql("SELECT pg_notify(%s, message) FROM unnest(%s::text[]) AS message", (CHANNEL, messages))


def change_of(job_id: int, source_id: int) -> tuple[Any, ...]:
    """The same as a part of the statement that changes it: said of every row that it returns."""
    return (fn.pg_notify(CHANNEL, json.dumps({"job": job_id, "source": source_id})),)


def announce_destination(job_id: int, destination_id: int) -> None:
    """Say that a destination of a job has another version of its spec."""
    _say({"job": job_id, "destination": destination_id})


def announce_handover(job_id: int) -> None:
    """Say that something was sent, or answered."""
    _say({"job": job_id, "handover": 1})


def announce_line(line_id: int, arrival_id: int = 0) -> None:
    """Say that a line has changed, or something that came into its folder."""
    _say({"line": line_id, "arrival": arrival_id})


def _say(change: dict[str, int]) -> None:
    message = json.dumps(change)
    database.execute_sql("SELECT pg_notify(%s, %s)", (CHANNEL, message))
