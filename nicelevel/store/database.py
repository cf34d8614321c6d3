"""The one database, opened by URL, and its migrations."""

from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from playhouse.migrations import Runner
from playhouse.postgres_ext import PooledPsycopg3Database

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


def migrate() -> list[str]:
    """Bring the tables up to date; the names of the migrations that ran."""
    with connected():
        applied: list[str] = Runner(database, str(Path(__file__).parent / "migrations")).up()
        return applied
