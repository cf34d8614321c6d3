"""Fixtures: a PostgreSQL of the tests' own, a clean store for each test, the application, the real thing running."""

import asyncio
import os
import re
import signal
import socket
import subprocess
import sys
import time
from collections.abc import Iterator
from contextlib import suppress
from pathlib import Path

import pytest

from nicelevel.config import Config, read_config
from nicelevel.run.cluster import Cluster, free_port
from nicelevel.store.audio import AudioFolder
from nicelevel.store.database import connected, database, migrate, open_database
from nicelevel.store.tables import TABLES
from nicelevel.work.app import open_queue, prepare_queue
from nicelevel.work.worker import workers_of

START_S = 120.0
"""What a start may take beside much else: one that hangs is told from one that is slow. Alone it takes six."""


@pytest.fixture(scope="session")
def database_url(tmp_path_factory: pytest.TempPathFactory) -> Iterator[str]:
    """A cluster of the tests' own, with all tables."""
    cluster = Cluster(tmp_path_factory.mktemp("cluster") / "postgres", "for-tests")
    cluster.start()
    open_database(cluster.url)
    migrate()
    prepare_queue(cluster.url)
    yield cluster.url
    database.close_all()
    cluster.stop()


@pytest.fixture
def config(database_url: str, tmp_path: Path) -> Config:
    """Settings over empty tables and an empty data folder."""
    open_database(database_url)
    with connected():
        names = ", ".join(f'"{table._meta.table_name}"' for table in TABLES)
        database.execute_sql(f"TRUNCATE {names}, procrastinate_jobs, procrastinate_workers CASCADE")
    folder = tmp_path / "data"
    environment = {
        "NICE_LEVEL_DATA_FOLDER": str(folder),
        "NICE_LEVEL_DATABASE_URL": database_url,
        "NICE_LEVEL_INNER_RECEIVERS": "yes",
    }
    made = read_config(environment)
    for each in (made.audio_folder, made.deliverables_folder, made.uploads_folder):
        each.mkdir(parents=True)
    return made


@pytest.fixture
def store(config: Config) -> Iterator[AudioFolder]:
    """A connection for the test, and the folder of audio."""
    with connected():
        yield AudioFolder(config.audio_folder)


@pytest.fixture
def work_off(config: Config):
    """Do everything that waits on the queue, here and now."""

    def run() -> None:
        asyncio.run(_work_off(config))

    return run


async def _work_off(config: Config) -> None:
    queue = open_queue(config.database_url)
    async with queue.open_async():
        waiting, before = {0}, None
        # A worker that does not wait ends while its last jobs run: what those put on the queue, or held up, is left.
        while waiting and waiting != before:
            for each in workers_of(queue, config, wait=False, shutdown_graceful_timeout=None):
                await each.run()
            left = await queue.job_manager.list_jobs_async(status="todo")
            before, waiting = waiting, {each.id for each in left}


def wait_for_port(port: int) -> None:
    """Wait until something answers there."""
    end = time.monotonic() + START_S
    while time.monotonic() < end:
        with suppress(OSError), socket.create_connection(("127.0.0.1", port), timeout=1.0) as there:
            if there.getsockname() != there.getpeername():  # a port may call itself while nobody listens there
                return
        time.sleep(0.1)
    raise AssertionError(f"nothing answers at {port}")


class Live:
    """Nice Level as `make run` starts it: its own database, worker and web server."""

    def __init__(self, folder: Path, demo: str = "no", settings: dict[str, str] | None = None) -> None:
        """settings: by their names without the prefix."""
        self._settings = {"DEMO": demo, **(settings or {})}
        self.data_folder = folder / "data"
        self._log = folder / "serve.log"
        # Ports of its own: tests run side by side, and two would find the same one free.
        self._ports = {f"NICE_LEVEL_{name}": str(free_port()) for name in ("PORT", "DESK_PORT")}
        self.start()

    def start(self) -> None:
        """Start it, again over the same data."""
        self._database_url = ""
        with self._log.open("wb") as log:
            command = [sys.executable, "-m", "nicelevel.cli.main", "serve"]
            self._process = subprocess.Popen(command, env=self._environment(), stdout=log, stderr=log)
        self.address = self._wait_for_address()

    def _environment(self) -> dict[str, str]:
        environment = {
            **os.environ,
            **self._ports,
            **{f"NICE_LEVEL_{name}": value for name, value in self._settings.items()},
            "NICE_LEVEL_DATA_FOLDER": str(self.data_folder),
            "PYTHONUNBUFFERED": "1",
        }
        environment.pop("NICE_LEVEL_DATABASE_URL", None)
        return environment

    def command(self, words: list[str], typed: str = "") -> str:
        """What a command says over the same data; it must end well."""
        command = [sys.executable, "-m", "nicelevel.cli.main", *words]
        done = subprocess.run(command, env=self._environment(), input=typed, capture_output=True, text=True)
        assert done.returncode == 0, done.stderr
        return done.stdout

    def _wait_for_address(self) -> str:
        end = time.monotonic() + START_S
        while time.monotonic() < end and self._process.poll() is None:
            found = re.search(r"http://127\.0\.0\.1:\d+/", self.log())
            if found:
                return found.group()
            time.sleep(0.1)
        status = self._process.poll()
        stood = [self.command_of(pid) for pid in self.children()] if status is None else f"ended with {status}"
        self._process.kill()
        raise AssertionError(f"Nice Level did not start: {self.log()}; {stood}")

    def log(self) -> str:
        return self._log.read_text(errors="replace")

    def worker_pid(self) -> int:
        """The worker among the supervisor's children; it may just be started again."""
        end = time.monotonic() + START_S
        while time.monotonic() < end:
            for pid in self.children():
                if " worker" in self.command_of(pid):
                    return pid
            time.sleep(0.1)
        raise AssertionError(f"there is no worker: {self.log()}")

    @property
    def pid(self) -> int:
        return self._process.pid

    def command_of(self, pid: int) -> str:
        """How a process was called; nothing of one that has just ended."""
        with suppress(OSError):
            return Path(f"/proc/{pid}/cmdline").read_bytes().replace(b"\0", b" ").decode().strip()
        return ""

    def environment_of(self, pid: int) -> dict[str, str]:
        """The settings that a process of ours was given."""
        given = (each.partition("=") for each in Path(f"/proc/{pid}/environ").read_text().split("\0"))
        return {name: value for name, _, value in given if name.startswith("NICE_LEVEL_")}

    def database_url(self) -> str:
        """As the worker was told; the same as long as it runs."""
        end = time.monotonic() + START_S
        while not self._database_url and time.monotonic() < end:
            with suppress(OSError, KeyError):  # a worker that has just ended says nothing
                self._database_url = self.environment_of(self.worker_pid())["NICE_LEVEL_DATABASE_URL"]
        return self._database_url

    def stop(self) -> int:
        """Ctrl-C; the exit status."""
        self._process.send_signal(signal.SIGINT)
        return self._process.wait(START_S)

    def kill(self) -> None:
        """The supervisor alone, as a machine short of memory would."""
        self._process.kill()
        self._process.wait(START_S)

    def children(self) -> list[int]:
        return [
            int(pid)
            for pid in Path(f"/proc/{self._process.pid}/task/{self._process.pid}/children").read_text().split()
        ]


@pytest.fixture(scope="module")
def live(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Live]:
    running = Live(tmp_path_factory.mktemp("live"))
    yield running
    running.stop()
