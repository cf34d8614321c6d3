"""Server-sent events: what changed in a job, as PostgreSQL tells it."""

import json
from collections.abc import Iterator

import psycopg

from nicelevel.store.changes import CHANNEL

PULSE_S = 10.0
"""A comment goes out this often, so that a stream whose page is gone is noticed and ends."""


def job_events(database_url: str, job_id: int | None) -> Iterator[str]:
    """Events of one job, or of all (None), for as long as the page listens.

    The first says that listening has begun.
    """
    with psycopg.connect(database_url, autocommit=True) as connection:
        connection.execute(f"LISTEN {CHANNEL}")
        yield "retry: 1000\nevent: open\ndata: {}\n\n"
        while True:
            for notice in connection.notifies(timeout=PULSE_S):
                change = json.loads(notice.payload)
                if change.pop("job") == job_id or job_id is None:
                    name = "handover" if "handover" in change else "change"
                    yield f"event: {name}\ndata: {json.dumps(change)}\n\n"
            yield ": still here\n\n"
