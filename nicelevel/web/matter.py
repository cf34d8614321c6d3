"""What is the matter, in sentences: for whoever watches from outside, and for every open page."""

import shutil
from collections.abc import Iterator

from nicelevel.config import Config
from nicelevel.store.database import GONE, connected
from nicelevel.store.depot import AWAY, depot_answers
from nicelevel.store.watched import is_waiting, workers_alive
from nicelevel.work.app import STALLED_S

DATABASE_AWAY = "The database does not answer. Nice Level starts it again; what is under way goes on afterwards."
NO_WORKER = "No worker is at work: what is queued waits."
LEAST_FREE_BYTES = 1_000_000_000


def matters_of_work(config: Config) -> Iterator[str]:
    """What keeps work from being taken in or done."""
    try:
        with connected():
            if not workers_alive(STALLED_S * 2):
                yield NO_WORKER
    except GONE:
        yield DATABASE_AWAY
    if not depot_answers():
        yield AWAY
    try:
        free_bytes = shutil.disk_usage(config.data_folder).free
    except OSError:
        yield "The data folder cannot be reached."
    else:
        if free_bytes < LEAST_FREE_BYTES:
            yield "The disk of the data folder is nearly full."


def matters_of_pages() -> Iterator[str]:
    """What somebody at an open page should know while they wait. A database that is away they are told otherwise."""
    if not depot_answers():
        yield AWAY
    try:
        with connected():
            if is_waiting() and not workers_alive(STALLED_S * 2):
                yield NO_WORKER
    except GONE:
        pass
