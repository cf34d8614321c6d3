"""A farm that these machines are not: a million deliverables and two hundred workers, against the real queue.

The workers are the application's own, with its notifications, heartbeats, rescues and looks for forgotten work, and
each deliverable is begun, told of four times a second and saved as the application does it, in PostgreSQL. Only the
rendering itself is slept through: it takes as long as one was measured to take, faster and faster, until something no
longer follows. What the server spends is read from its processes, so that it does not matter what plays on the same
cores.
"""

import argparse
import asyncio
import json
import logging
import multiprocessing
import os
import random
import statistics
import tempfile
import time
from collections.abc import Awaitable, Callable, Iterator
from contextlib import contextmanager, suppress
from dataclasses import dataclass, field
from multiprocessing.queues import Queue
from multiprocessing.synchronize import Barrier
from pathlib import Path
from typing import Any

import procrastinate
import psycopg

from nicelevel.config import Config, read_config
from nicelevel.run.cluster import Cluster
from nicelevel.store.changes import CHANNEL
from nicelevel.store.database import connected, migrate, open_database
from nicelevel.store.runs import LOCK_OF_DELIVERABLE
from nicelevel.work.app import HEARTBEAT_S, open_queue, prepare_queue, queue
from nicelevel.work.reconcile import requeue_forgotten
from nicelevel.work.trying import TOLD_EVERY_S
from nicelevel.work.worker import MEND_EVERY_S, how_to_hear_of_work, rescue_stalled, workers_of

RENDERED_S = ((0.17, 0.20), (1.5, 0.35), (1.6, 0.35), (7.0, 0.099), (126.0, 0.001))
"""Seconds of one core and how many of all: ten seconds, two, four and ten minutes, three hours (performance.md)."""

MEAN_S = sum(seconds * share for seconds, share in RENDERED_S)
PROCESSES, FORMATS = 2, 6
SETTLED_S = 4.0
RESULT = json.dumps({"course": [[-23.0] * 3] * 300})
"""As large as what is kept of a proved deliverable: about 6 kB."""

TICKS_PER_S = os.sysconf("SC_CLK_TCK")

_TOLD = ", pg_notify(%(channel)s, %(change)s)"
_OF_TRY = " WHERE id = %(id)s AND token = %(token)s AND state IN ('queued', 'rendering') RETURNING id"
BEGIN = (
    "UPDATE deliverable SET token = nextval('try_token'), state = 'rendering', started_at = now() WHERE id = %(id)s"
    " AND state IN ('queued', 'rendering') RETURNING token" + _TOLD
)
TELL = "UPDATE deliverable SET progress_ratio = random(), state = 'rendering'" + _OF_TRY
END = "UPDATE deliverable SET state = 'proved', finished_at = now(), measured = %(result)s" + _OF_TRY + _TOLD


def main() -> None:
    asked = argparse.ArgumentParser(description=__doc__)
    asked.add_argument("--deliverables", type=int, default=1_000_000)
    asked.add_argument("--workers", type=int, default=200)
    asked.add_argument("--seconds", type=float, default=20.0)
    asked.add_argument("--faster", type=float, nargs="+", default=[1.0, 2.0, 4.0])
    told = asked.parse_args()
    with tempfile.TemporaryDirectory() as folder, _server(Path(folder), told.workers) as (url, server):
        fill(url, told.deliverables)
        print_each_alone(url, told.deliverables, server)
        print(f"\n{told.workers} workers of two, {told.seconds:.0f} s each, works of {MEAN_S:.2f} s on average")
        print("waiting | faster | offered/s | done/s | between two: median, 95 % | server: cores | ms each | memory")
        for depth in (told.deliverables, told.deliverables // 10, told.deliverables // 50):
            for faster in told.faster:
                empty_to(url, depth)
                print_play(play(url, told.workers, told.seconds, faster, server), depth, faster, told.workers)


@contextmanager
def _server(folder: Path, workers: int) -> Iterator[tuple[str, "Server"]]:
    os.chmod(folder, 0o755)
    cluster = Cluster(folder / "postgres", "scale", connections=workers * 8 + 50)
    cluster.start()
    try:
        open_database(cluster.url)
        migrate()
        prepare_queue(cluster.url)
        yield cluster.url, Server(cluster.pid)
    finally:
        cluster.stop()


@dataclass(frozen=True)
class Server:
    """The processes of PostgreSQL, of which the first is told."""

    pid: int

    def pids(self) -> list[int]:
        children = Path(f"/proc/{self.pid}/task/{self.pid}/children").read_text().split()
        return [self.pid, *map(int, children)]

    def busy_s(self) -> float:
        """Processor time of all of them, also of those that have ended."""
        return sum(self._of(pid, pid == self.pid) for pid in self.pids())

    def _of(self, pid: int, with_ended: bool) -> float:
        with suppress(OSError):
            facts = Path(f"/proc/{pid}/stat").read_text().rpartition(")")[2].split()
            return sum(map(int, facts[11 : 15 if with_ended else 13])) / TICKS_PER_S
        return 0.0

    def own_mb(self) -> float:
        """What the processes have for themselves, without what they share."""
        total_kb = 0
        for pid in self.pids():
            with suppress(OSError):
                told = Path(f"/proc/{pid}/smaps_rollup").read_text().splitlines()
                total_kb += sum(int(line.split()[1]) for line in told if line.startswith(("Private_Dirty",)))
        return total_kb / 1024


def fill(url: str, count: int) -> None:
    """So many deliverables of one job that wait, each with its entry of the queue."""
    begun_s = time.perf_counter()
    with psycopg.connect(url, autocommit=True) as connection:
        connection.execute("INSERT INTO job (title) VALUES ('A million')")
        connection.execute("INSERT INTO spec_version (slug, digest, toml) VALUES ('scale', '', '')")
        connection.execute(
            "INSERT INTO destination (job_id, spec_id, place)"
            " SELECT job.id, spec_version.id, 1 FROM job, spec_version"
        )
        sources = -(-count // FORMATS)
        connection.execute(
            "INSERT INTO source (job_id, file_name, title, kind, digest, size_bytes, state, progress_ratio)"
            " SELECT (SELECT id FROM job), 'f' || n, 'f' || n, 'mix', encode(sha256(n::text::bytea), 'hex'),"
            " 50000000, 'measured', 1 FROM generate_series(1, %s) n",
            (sources,),
        )
        connection.execute(
            "INSERT INTO deliverable (source_id, destination_id, spec_id, output, state, progress_ratio)"
            " SELECT source.id, destination.id, spec_id, 'format ' || n, 'queued', 0"
            " FROM source, destination, generate_series(1, %s) n LIMIT %s",
            (FORMATS, count),
        )
        connection.execute(
            "INSERT INTO procrastinate_jobs (queue_name, task_name, lock, args)"
            " SELECT 'default', 'render_deliverable', %s || id, jsonb_build_object('deliverable_id', id)"
            " FROM deliverable",
            (LOCK_OF_DELIVERABLE.format(""),),
        )
        connection.execute("VACUUM ANALYZE")
    print(f"{count} deliverables put on the queue by the server itself in {time.perf_counter() - begun_s:.0f} s")


def empty_to(url: str, depth: int) -> None:
    """Let go of what waits until so many are left, from behind, and of what is left of the last play."""
    with psycopg.connect(url, autocommit=True) as connection:
        connection.execute("DELETE FROM procrastinate_jobs WHERE status = 'doing'")
        connection.execute("DELETE FROM procrastinate_workers")
        connection.execute(
            "DELETE FROM procrastinate_jobs WHERE status = 'todo' AND id >="
            " (SELECT id FROM procrastinate_jobs WHERE status = 'todo' ORDER BY id OFFSET %s LIMIT 1)",
            (depth,),
        )
        connection.execute("VACUUM ANALYZE procrastinate_jobs")


def print_each_alone(url: str, count: int, server: Server) -> None:
    """Each thing that a worker asks, alone, and the memory of a connection."""
    before_mb, connections = server.own_mb(), [psycopg.connect(url, autocommit=True) for _ in range(20)]
    for connection in connections:
        connection.execute("SELECT count(*) FROM procrastinate_workers").fetchall()
        connection.execute("SELECT * FROM procrastinate_fetch_job_v2('{sending}', 0)").fetchall()
    print(f"a connection | {(server.own_mb() - before_mb) / 20:.1f} MB")
    for connection in connections:
        connection.close()
    times = asyncio.run(_each_alone(url))
    for what, taken_s in times.items():
        print(f"{what} | {1000 * statistics.median(taken_s):.2f} ms")
    with connected():
        begun_s = time.perf_counter()
        requeue_forgotten()
        took_s = time.perf_counter() - begun_s
        print(f"a look for forgotten work, one for all workers every {MEND_EVERY_S:.0f} s | {took_s:.2f} s")


async def _each_alone(url: str) -> dict[str, list[float]]:
    app = open_queue(url)
    times: dict[str, list[float]] = {}
    async with app.open_async():
        manager = app.job_manager
        worker_id = await manager.register_worker()
        fetched: list[Any] = []

        async def fetch(on: str) -> None:
            if job := await manager.fetch_job(queues=[on], worker_id=worker_id):
                fetched.append(job)

        async def finish() -> None:
            status = procrastinate.jobs.Status.SUCCEEDED
            await manager.finish_job(fetched.pop(), status=status, delete_job=True)

        asked: dict[str, Callable[[], Awaitable[Any]]] = {
            "fetch": lambda: fetch("default"),
            "fetch from the empty queue of sendings": lambda: fetch("sending"),
            "finish": finish,
            "heartbeat": lambda: manager.update_heartbeat(worker_id),
            "look for stalled workers": lambda: rescue_stalled(app, {worker_id}),
        }
        for what, do in asked.items():
            for _ in range(30):
                begun_s = time.perf_counter()
                await do()
                times.setdefault(what, []).append(time.perf_counter() - begun_s)
        await manager.unregister_worker(worker_id)
    return times


@dataclass
class Played:
    """What the workers of one process did. pauses_s: between the end of a work and the next begin in its place."""

    done: int = 0
    seconds: float = 0.0
    pauses_s: list[float] = field(default_factory=list)
    server_s: float = 0.0
    memory_mb: float = 0.0


def play(url: str, workers: int, seconds: float, faster: float, server: Server) -> Played:
    """So many workers for so long, in a few processes."""
    context = multiprocessing.get_context("spawn")
    told: Queue[Played] = context.Queue()
    all_are_there = context.Barrier(PROCESSES + 1)
    asked = (url, workers // PROCESSES, seconds, faster, told, all_are_there)
    parts = [context.Process(target=_play_part, args=asked) for _ in range(PROCESSES)]
    for each in parts:
        each.start()
    all_are_there.wait()
    time.sleep(SETTLED_S + seconds / 4)
    begun_s, server_s = time.perf_counter(), server.busy_s()
    time.sleep(seconds / 2)
    server_s, memory_mb = (server.busy_s() - server_s) / (time.perf_counter() - begun_s), server.own_mb()
    found = [told.get() for _ in parts]
    for each in parts:
        each.join()
    return Played(
        sum(each.done for each in found),
        statistics.mean(each.seconds for each in found),
        [pause_s for each in found for pause_s in each.pauses_s],
        server_s,
        memory_mb,
    )


def _play_part(
    url: str, workers: int, seconds: float, faster: float, told: "Queue[Played]", all_are_there: Barrier
) -> None:
    logging.disable(logging.ERROR)
    config = read_config({"NICE_LEVEL_DATABASE_URL": url})
    open_database(url)
    part = _Part(url, config, faster)

    async def played() -> None:
        told.put(await part.run(workers, seconds, all_are_there))
        told.close()
        told.join_thread()
        os._exit(0)  # as a machine that is switched off: what they were at is let go of before the next play

    asyncio.run(played())


class _Part:
    """Workers of the application in this process, each with connections of its own."""

    def __init__(self, url: str, config: Config, faster: float) -> None:
        self._url, self._config, self._faster = url, config, faster
        self._random = random.Random(os.getpid())
        self._played = Played()
        self._places: dict[procrastinate.App, _Places] = {}
        self._running: list[asyncio.Task[Any]] = []
        # All of them share the tasks of the one queue: this is the only one that is ever fetched.
        queue.perform_import_paths()
        queue.tasks["render_deliverable"] = procrastinate.tasks.Task(
            self._render, blueprint=queue, name="render_deliverable", queue="default", pass_context=True
        )

    async def run(self, count: int, seconds: float, all_are_there: Barrier) -> Played:
        for _ in range(count):
            self._running += await self._worker()
            await asyncio.sleep(0)  # it says that it is there
        await asyncio.to_thread(all_are_there.wait)
        await asyncio.sleep(SETTLED_S)
        self._played = Played()
        begun_s = time.perf_counter()
        await asyncio.sleep(seconds)
        played, self._played = self._played, Played()
        played.seconds = time.perf_counter() - begun_s
        return played

    async def _worker(self) -> list["asyncio.Task[Any]"]:
        app = open_queue(self._url)
        await app.open_async()
        self._places[app] = _Places(await psycopg.AsyncConnection.connect(self._url, autocommit=True))
        both = workers_of(app, self._config, **await how_to_hear_of_work(app))
        return [asyncio.create_task(each) for each in (*(each.run() for each in both), self._rescue(app, both))]

    async def _rescue(self, app: procrastinate.App, workers: Any) -> None:
        while True:
            await asyncio.sleep(HEARTBEAT_S)
            await rescue_stalled(app, {each.worker_id for each in workers})

    async def _render(self, context: procrastinate.JobContext, deliverable_id: int) -> None:
        places = self._places[context.app]
        if places.free_since_s:
            self._played.pauses_s.append(time.perf_counter() - places.free_since_s.pop(0))
        rendered_s = self._random.choices(*zip(*RENDERED_S, strict=True))[0] * self._random.uniform(0.8, 1.2)
        token, _ = await places.say(BEGIN, deliverable_id)
        left_s = rendered_s / self._faster
        while left_s > TOLD_EVERY_S:
            await asyncio.sleep(TOLD_EVERY_S)
            await places.say(TELL, deliverable_id, token)
            left_s -= TOLD_EVERY_S
        await asyncio.sleep(left_s)
        await places.say(END, deliverable_id, token, RESULT)
        self._played.done += 1
        places.free_since_s.append(time.perf_counter())


class _Places:
    """Where one worker does its works, and its connection to the store."""

    def __init__(self, connection: "psycopg.AsyncConnection[Any]") -> None:
        self._connection, self._lock = connection, asyncio.Lock()
        self.free_since_s: list[float] = []

    async def say(self, statement: str, deliverable_id: int, token: int = 0, result: str = "") -> Any:
        """What a worker says of its deliverable, and that it changed, in one statement."""
        change = json.dumps({"job": 1, "source": deliverable_id // FORMATS})
        values = {"id": deliverable_id, "token": token, "result": result, "channel": CHANNEL, "change": change}
        async with self._lock:
            return await (await self._connection.execute(statement, values)).fetchone()


def print_play(played: Played, depth: int, faster: float, workers: int) -> None:
    offered = 2 * workers * faster / MEAN_S
    done = played.done / played.seconds
    pauses = sorted(played.pauses_s) or [0.0]
    each_ms = 1000 * played.server_s / done if done else 0.0
    print(
        f"{depth} | {faster:g} | {offered:.0f} | {done:.0f} | {1000 * statistics.median(pauses):.0f} ms,"
        f" {1000 * pauses[int(0.95 * (len(pauses) - 1))]:.0f} ms | {played.server_s:.2f} | {each_ms:.1f}"
        f" | {played.memory_mb:.0f} MB"
    )


if __name__ == "__main__":
    main()
