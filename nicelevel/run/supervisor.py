"""`nice-level serve`: database, worker and web server up together, down together."""

import os
import signal
import socket
import subprocess
import sys
import threading
import time
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager, suppress
from datetime import UTC, datetime, timedelta
from pathlib import Path

import click

from nicelevel.config import GIVEN, PREFIX, Config
from nicelevel.core.errors import NiceLevelError, NoPermissionError
from nicelevel.core.words import listed
from nicelevel.store.backups import last_checked, last_taken
from nicelevel.store.database import connected, migrate, open_database
from nicelevel.store.depot import open_depot
from nicelevel.work.app import prepare_queue
from nicelevel.work.enqueue import enqueue_every_preparation, enqueue_outdated
from nicelevel.work.keeping import reconcile, sweep

from .cluster import Cluster, free_port
from .folder_lock import FolderLock, folder_lock

GRACE_S = 5.0
STORAGE_AWAY_S = 60.0
"""A start waits so long for an object storage that is away; then it says so, and nothing is taken for lost."""

LOOK_EVERY_S, LOOK_FIRST_S = 0.5, 0.1
STEADY_S, LONGEST_PAUSE_S = 20.0, 10.0
"""What ended sooner than that is started again after a pause that grows, to this at most."""

BACKUP_LOOK_S, BACKUP_AGAIN_S = 30.0, 900.0
"""How often it is looked whether a backup is due, and after how long one that failed is tried again."""

CHECKED_EVERY_DAYS = 7
"""So often every byte of the newest backup is read again."""

ENDING_SIGNALS = (signal.SIGINT, signal.SIGTERM, signal.SIGHUP)


def serve(config: Config) -> None:
    """Bring everything up, print the address, keep it up until Ctrl-C, SIGTERM or SIGHUP, take it down again.

    Raises RunningAlreadyError where that is done over this data folder already, and a NiceLevelError with a sentence
    where something of it cannot be started.
    """
    stopping = threading.Event()
    for number in ENDING_SIGNALS:
        signal.signal(number, lambda *_: stopping.set())
    with folder_lock(config.data_folder) as lock, running_database(config) as cluster:
        url = cluster.url if cluster else config.database_url
        prepare(config, url)
        port = _port(config)
        # What is free now may be what the web server is about to take.
        desk_port = free_port(config.desk_port if config.desk_port != port else 0)
        environment = {**os.environ, **_environment(config, url, port, desk_port)}
        parts = [_Part("worker", environment), _Part("web", environment), _Part("desk", environment)]
        backups = _Backups(config, environment)
        _keep_up(parts, backups, cluster, stopping, (_reached(config.address), port), config.hosts, lock)


def _port(config: Config) -> int:
    """Raises NoPermissionError where the port is taken and others would look for us there, or the address is none."""
    try:
        port = free_port(config.port, config.address)
    except OSError as error:
        raise NoPermissionError(f"{config.address} cannot be listened on: {_reason(error)}") from error
    if config.accounts and port != config.port:
        raise NoPermissionError(
            f"Port {config.port} is taken, and with accounts it is not changed by itself: others look for it there."
        )
    return port


@contextmanager
def running_database(config: Config) -> Iterator[Cluster | None]:
    """A cluster of our own while the block runs; None where a database was given."""
    if config.database_url:
        yield None
        return
    cluster = Cluster(config.data_folder / "postgres", config.secret("database"))
    try:
        cluster.start()
        yield cluster
    finally:
        cluster.stop()


def prepare(config: Config, url: str) -> None:
    """Bring the tables up to date, put rows and files in order, make the demo job where there is no job."""
    from nicelevel.demo.job import make_demo_job

    with _speaking(config):
        open_database(url)
        # Before rows are held against files: what is not on this disk may be kept there.
        open_depot(config, STORAGE_AWAY_S)
        migrated = migrate()
        prepare_queue(url)
        with connected():
            reconcile(config)
            sweep(config)
            if migrated:
                enqueue_every_preparation(config)
            enqueue_outdated()
    if config.demo:
        try:
            make_demo_job(config)
        except (NiceLevelError, OSError) as error:
            click.echo(f"The demo job was not made: {_reason(error)}", err=True)


@contextmanager
def _speaking(config: Config) -> Iterator[None]:
    """Turn what the system or the database says into a sentence."""
    import peewee
    import psycopg

    try:
        yield
    except (peewee.OperationalError, psycopg.OperationalError) as error:
        first, *_ = [*str(error).strip().splitlines(), "no reason is given"]
        raise NoPermissionError(f"The database does not answer: {first}") from error
    except OSError as error:
        raise NoPermissionError(f"The data folder {config.data_folder} cannot be used: {_reason(error)}") from error


def _reason(error: Exception) -> str:
    if isinstance(error, NiceLevelError):
        return error.message
    return f"{(getattr(error, 'strerror', None) or str(error)).lower()}."


def _environment(config: Config, url: str, port: int, desk_port: int) -> dict[str, str]:
    return {
        **config.environment(),
        # What somebody has set, and what only follows from it: the page of settings says which is which.
        GIVEN: " ".join(name for name in os.environ if name.startswith(PREFIX)),
        "NICE_LEVEL_DATABASE_URL": url,
        "NICE_LEVEL_PORT": str(port),
        "NICE_LEVEL_DESK_PORT": str(desk_port),
        "NICE_LEVEL_DESK_ADDRESS": config.desk_address or f"http://127.0.0.1:{desk_port}/packages",
    }


class _Part:
    """One of the processes that are kept up: `nice-level NAME`."""

    def __init__(self, name: str, environment: dict[str, str]) -> None:
        self._name, self._environment = name, environment
        self._pause_s, self._next_s = 0.0, 0.0
        self.process = self._start()

    def look(self) -> None:
        """Start it again where it died; what dies at once is given longer and longer pauses."""
        if self.process.poll() is None:
            return
        now_s = time.monotonic()
        if not self._next_s:
            self._pause_s = 0.0 if now_s - self._begun_s > STEADY_S else min(LONGEST_PAUSE_S, self._pause_s * 2 + 0.5)
            self._next_s = now_s + self._pause_s
            click.echo(f"The {self._name} ended ({self.process.returncode}); it is started again.", err=True)
        if now_s >= self._next_s:
            self._next_s = 0.0
            self.process = self._start()

    def _start(self) -> "subprocess.Popen[bytes]":
        self._begun_s = time.monotonic()
        command = [sys.executable, "-m", "nicelevel.cli.main", self._name]
        # A session of its own: Ctrl-C in the terminal reaches us alone, and we stop the rest in order. Where we are
        # killed ourselves, the system ends them, so that none is left at work on a database that is gone.
        return subprocess.Popen(
            ["setpriv", "--pdeathsig", "TERM", *command], env=self._environment, start_new_session=True
        )


class _Backups:
    """Backups that are taken by themselves when they are due, and read again now and then."""

    def __init__(self, config: Config, environment: dict[str, str]) -> None:
        self._config, self._environment = config, environment
        self._process: subprocess.Popen[bytes] | None = None
        self._next_s = 0.0

    def look(self) -> None:
        if self._process is not None and self._process.poll() is not None:
            if self._process.returncode:
                status = self._process.returncode
                click.echo(f"A backup did not come to its end ({status}); it is tried again.", err=True)
                self._next_s = time.monotonic() + BACKUP_AGAIN_S
            self._process = None
        if self._config.backup_folder and self._process is None and time.monotonic() >= self._next_s:
            self._next_s = time.monotonic() + BACKUP_LOOK_S
            wanted = self._due()
            if wanted is not None:
                command = [sys.executable, "-m", "nicelevel.cli.main", "backup", *wanted]
                self._process = subprocess.Popen(
                    ["setpriv", "--pdeathsig", "TERM", *command], env=self._environment, start_new_session=True
                )

    def _due(self) -> list[str] | None:
        """What is to be done now; None where nothing is."""
        folder, now = Path(self._config.backup_folder), datetime.now(UTC)
        taken, checked = last_taken(folder), last_checked(folder)
        if taken is None or now - taken >= timedelta(hours=self._config.backup_hours):
            return []
        if checked is None or now - checked.at >= timedelta(days=CHECKED_EVERY_DAYS):
            return [str(folder), "--check"]
        return None

    def stop(self) -> None:
        if self._process is not None:
            self._process.terminate()


class _Database:
    """The cluster of our own, watched as well: where it died it is started again, for as long as that takes."""

    def __init__(self, cluster: Cluster | None) -> None:
        self._cluster, self._next_s = cluster, 0.0

    def look(self) -> None:
        if self._cluster is None or self._cluster.is_alive() or time.monotonic() < self._next_s:
            return
        click.echo("The database ended; it is started again.", err=True)
        try:
            self._cluster.start_again()
        except NiceLevelError as error:
            self._next_s = time.monotonic() + LONGEST_PAUSE_S / 2
            click.echo(f"{error.message} It is tried again.", err=True)


def _keep_up(
    parts: list[_Part],
    backups: _Backups,
    cluster: Cluster | None,
    stopping: threading.Event,
    at: tuple[str, int],
    names: Sequence[str],
    lock: FolderLock,
) -> None:
    """Keep the parts up, start again what dies, until told to stop.

    at: where the web server answers, to these names.
    """
    host, port = at
    address = f"http://{f'[{host}]' if ':' in host else host}:{port}/"
    watched: list[Callable[[], None]] = [_Database(cluster).look, *(part.look for part in parts)]
    try:
        while not stopping.wait(LOOK_FIRST_S) and not _answers(at):
            _look_after(watched)
        lock.say(address, cluster.port if cluster else None)
        others = "" if host in names else f", and answers to {listed(names)}"
        if not stopping.is_set():
            click.echo(f"Nice Level is at {address}{others}  (Ctrl-C stops it)")
        while not stopping.wait(LOOK_EVERY_S):
            _look_after([*watched, backups.look])
    finally:
        with suppress(OSError):  # the terminal may be gone
            click.echo("Stopping…")
        backups.stop()
        _stop([part.process for part in parts])


def _reached(address: str) -> str:
    """Where this machine itself reaches a server that listens on an address."""
    return {"0.0.0.0": "127.0.0.1", "::": "::1"}.get(address, address)


def _look_after(watched: Sequence[Callable[[], None]]) -> None:
    for look in watched:
        look()


def _answers(at: tuple[str, int]) -> bool:
    """Whether the web server does: the address that is printed can be opened at once."""
    with suppress(OSError), socket.create_connection(at, timeout=1.0) as there:
        # Where nobody listens, a port from among those that are given to whoever calls may call itself.
        return bool(there.getsockname() != there.getpeername())
    return False


def _stop(processes: "list[subprocess.Popen[bytes]]") -> None:
    """Ask, wait a little, then insist: interrupted work starts over by itself next time."""
    for process in processes:
        process.terminate()
    end = time.monotonic() + GRACE_S
    for process in processes:
        try:
            process.wait(max(0.1, end - time.monotonic()))
        except subprocess.TimeoutExpired:
            process.kill()
            process.wait()
