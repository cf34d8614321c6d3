"""The one database, opened by URL; its hiccups; its migrations."""

import threading
import time
from collections.abc import Callable, Collection, Iterator
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import Any, TypeVar

from peewee import AsIs, InterfaceError, OperationalError, fn
from playhouse.migrations import Runner
from playhouse.postgres_ext import PooledPsycopg3Database

from nicelevel.core.errors import NiceLevelError

T = TypeVar("T")

GONE = (OperationalError, InterfaceError)
"""What is raised where the server does not answer, ended a connection, or has no room on its disk."""

PERSISTENT_S, AGAIN_S = 60.0, 0.5
"""What must not be lost is tried for so long, and again after so long: PostgreSQL is back within seconds."""


class NewerDatabaseError(NiceLevelError):
    """The tables were made by a later version of the program."""

    code = "newer_database"


process_ends = threading.Event()
"""Set where the process is told to end: then nobody waits for a server that is away."""

database = PooledPsycopg3Database(None, max_connections=40, stale_timeout=300, timeout=10, autoconnect=False)


def open_database(url: str) -> None:
    """Say which database is meant; connections are made when they are needed."""
    database.init(url)


@contextmanager
def connected() -> Iterator[None]:
    """A connection for the block, returned to the pool after it."""
    fresh = database.connect(reuse_if_open=True)
    try:
        yield
    finally:
        if fresh:
            database.close()


def one_of(values: Collection[Any]) -> Any:
    """For a comparison with any of many values: they go to the server as one, not as a thousand of a query."""
    return fn.ANY(AsIs(list(values), False))


def reconnect() -> None:
    """A fresh connection for this thread. Raises one of GONE where the server does not answer."""
    with suppress(*GONE):
        database.manual_close()
    database.close_idle()
    database.connect(reuse_if_open=True)


def persistently(action: Callable[[], T], for_s: float = PERSISTENT_S) -> T:
    """What an action gives, which is one transaction; tried again on a fresh connection while the server is away.

    Raises one of GONE where it is away for longer.
    """
    end_s = time.monotonic() + for_s
    while True:
        try:
            return action()
        except GONE:
            if time.monotonic() > end_s or process_ends.wait(AGAIN_S):
                raise
            with suppress(*GONE):
                reconnect()


def migrate() -> list[str]:
    """Bring the tables up to date; the names of the migrations that ran.

    Raises NewerDatabaseError where a later version of the program has been at work on them.
    """
    with connected():
        refuse_newer()
        applied: list[str] = _runner().up()
        return applied


def refuse_newer() -> None:
    """Raises NewerDatabaseError where migrations ran that this program does not know."""
    unknown = sorted(set(_runner().applied()) - known_migrations())
    if unknown:
        raise NewerDatabaseError(
            f"The database was made by a newer version of Nice Level ({unknown[-1]}), which this one does not know. "
            "Nothing was changed: start that version, or restore a backup from before."
        )


def known_migrations() -> set[str]:
    """Names of all migrations that this program has."""
    return {migration.name for migration in _runner().migrations()}


def newest_migration() -> str:
    """The name of the last migration that ran."""
    return str(max(_runner().applied()))


def _runner() -> Runner:
    return Runner(database, str(Path(__file__).parent / "migrations"))
