"""Reaching the database of a data folder for a while: that of the run over it, or one started for it."""

from collections.abc import Iterator
from contextlib import ExitStack, contextmanager

from nicelevel.config import Config
from nicelevel.store.database import open_database

from .cluster import Cluster, url_of
from .folder_lock import RunningAlreadyError, folder_lock, said_by_run


@contextmanager
def reached_database(config: Config) -> Iterator[str]:
    """URL of the database of a data folder, opened, while the block runs, whether Nice Level runs over it or not."""
    with ExitStack() as stack:
        url = config.database_url or _own(config, stack)
        open_database(url)
        yield url


def _own(config: Config, stack: ExitStack) -> str:
    try:
        stack.enter_context(folder_lock(config.data_folder))
    except RunningAlreadyError:
        port = said_by_run(config.data_folder).get("database_port")
        if not port:
            raise
        return url_of(config.secret("database"), int(port))
    cluster = Cluster(config.data_folder / "postgres", config.secret("database"))
    stack.callback(cluster.stop)
    cluster.start()
    return cluster.url
