"""`nice-level serve`: database, worker and web server up together, down together."""

import os
import signal
import socket
import subprocess
import sys
import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path

import click

from nicelevel.config import Config
from nicelevel.store.audio import AudioFolder
from nicelevel.store.database import connected, migrate, open_database
from nicelevel.work.app import prepare_queue
from nicelevel.work.enqueue import enqueue_outdated

from .cluster import Cluster, free_port

WEB_THREADS = 32
"""Each open page holds one for its events."""

DESK_THREADS = 4

GRACE_S = 5.0
LOOK_EVERY_S = 0.5


def serve(config: Config) -> None:
    """Bring everything up, print the address, keep it up until Ctrl-C or SIGTERM, take it down again."""
    stopping = threading.Event()
    for number in (signal.SIGINT, signal.SIGTERM):
        signal.signal(number, lambda *_: stopping.set())
    with running_database(config) as url:
        prepare(config, url)
        port = free_port(config.port)
        # What is free now may be what the web server is about to take.
        desk_port = free_port(config.desk_port if config.desk_port != port else 0)
        commands = {
            "worker": _worker_command(),
            "web": _web_command(port, WEB_THREADS, "nicelevel.web.serve:app()"),
            "receiving desk": _web_command(desk_port, DESK_THREADS, "nicelevel.stand_ins.receiving_desk.serve:app()"),
        }
        _keep_up(commands, {**os.environ, **_environment(config, url, desk_port)}, stopping, port)


@contextmanager
def running_database(config: Config) -> Iterator[str]:
    """URL of the database: the one that was given, or a cluster of our own while the block runs."""
    if config.database_url:
        yield config.database_url
        return
    config.data_folder.mkdir(parents=True, exist_ok=True)
    cluster = Cluster(config.data_folder / "postgres", config.secret("database"))
    try:
        cluster.start()
        yield cluster.url
    finally:
        cluster.stop()


def prepare(config: Config, url: str) -> None:
    """Bring the tables up to date, sweep broken uploads, make the demo job where there is no job."""
    from nicelevel.demo.job import make_demo_job

    open_database(url)
    migrate()
    prepare_queue(url)
    for part in config.uploads_folder.glob("*.part"):
        part.unlink()
    AudioFolder(config.audio_folder).sweep()
    with connected():
        enqueue_outdated()
    if config.demo:
        make_demo_job(config)


def _environment(config: Config, url: str, desk_port: int) -> dict[str, str]:
    return {
        "NICE_LEVEL_DATABASE_URL": url,
        "NICE_LEVEL_DATA_FOLDER": str(config.data_folder),
        "NICE_LEVEL_DESK_ADDRESS": config.desk_address or f"http://127.0.0.1:{desk_port}/packages",
    }


def _worker_command() -> list[str]:
    return [sys.executable, "-m", "nicelevel.cli.main", "worker"]


def _web_command(port: int, threads: int, application: str) -> list[str]:
    program = str(Path(sys.executable).with_name("gunicorn"))
    options = ["--bind", f"127.0.0.1:{port}", "--worker-class", "gthread", "--threads", str(threads)]
    quiet = ["--log-level", "warning", "--graceful-timeout", "1", "--timeout", "0", "--no-control-socket"]
    return [program, *options, *quiet, application]


def _keep_up(
    commands: dict[str, list[str]], environment: dict[str, str], stopping: threading.Event, port: int
) -> None:
    """Run the commands, start again what dies, until told to stop."""
    running = {name: _start(command, environment) for name, command in commands.items()}
    try:
        _wait_until_answering(port, stopping)
        click.echo(f"Nice Level is at http://127.0.0.1:{port}/  (Ctrl-C stops it)")
        while not stopping.wait(LOOK_EVERY_S):
            for name, process in running.items():
                if process.poll() is not None:
                    click.echo(f"The {name} ended ({process.returncode}); it is started again.", err=True)
                    time.sleep(LOOK_EVERY_S)
                    running[name] = _start(commands[name], environment)
    finally:
        click.echo("Stopping…")
        _stop(list(running.values()))


def _wait_until_answering(port: int, stopping: threading.Event) -> None:
    """Wait for the web server, so that the address that is printed can be opened at once."""
    while not stopping.wait(0.1):
        with suppress(OSError), socket.create_connection(("127.0.0.1", port), timeout=1.0):
            return


def _start(command: list[str], environment: dict[str, str]) -> "subprocess.Popen[bytes]":
    # A session of its own: Ctrl-C in the terminal reaches us alone, and we stop the rest in order. Where we are
    # killed ourselves, the system ends them, so that none is left at work on a database that is gone.
    return subprocess.Popen(["setpriv", "--pdeathsig", "TERM", *command], env=environment, start_new_session=True)


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
