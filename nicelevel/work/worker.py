"""One worker process: runs tasks side by side, takes over the jobs of workers that died, mends what lost its job."""

import asyncio
import contextlib
import logging
import os
import signal
import sys
import threading
import time
from collections.abc import Collection
from typing import Any

import procrastinate
from procrastinate.jobs import Job
from procrastinate.worker import Worker

from nicelevel.config import Config
from nicelevel.logs import arrange_logs
from nicelevel.store.database import GONE, connected, open_database, process_ends
from nicelevel.store.depot import DepotAwayError, open_depot
from nicelevel.store.turns import take_turn

from .app import HEARTBEAT_S, SENDING, STALLED_S, open_queue
from .keeping import sweep, sweep_storage
from .reconcile import requeue_forgotten
from .watching import start_watching
from .weight import memory_for_works, queues_that_fit

logger = logging.getLogger("nicelevel.work")

LISTENERS = 16
"""So many listen for new work and begin at once. Each announcement of anything wakes every listener there is, so all
others ask for themselves."""

ASKED_EVERY_S, UNTOLD_ASK_EVERY_S = 5.0, 2.0
"""How often who has nothing to do asks, where they would be told, and where they are not."""

SENDINGS_AT_ONCE = 2
GRACE_S, LONGEST_END_S = 0.5, 8.0
"""A worker that is to end asks its tasks after so long to put their work back, and has ended after so long."""

SAID_AGAIN_S = 1.0
"""What the database did not take of a job that has ended, as where its disk is full, is said again after so long."""

MEND_EVERY_S, SWEEP_EVERY_S = 15.0, 3600.0
STORAGE_AWAY_S = 300.0
"""A task waits so long for an object storage that is away, then it is tried again."""


class _OwnJobsWorker(Worker):
    """Says of a job that it has ended only while it is its own: it may have stood still and lost it to another."""

    async def _persist_job_status(self, job: Job, **ended: Any) -> None:  # type: ignore[override]  # by name alone
        # Until it is said: for as long as this worker lives, nobody else takes a job for lost that it was at.
        while True:
            try:
                return await self._say_ended(job, **ended)
            except procrastinate.exceptions.ConnectorException as error:
                logger.warning("cannot say that job %s (%s) has ended: %s", job.id, job.task_name, error)
                if self._stop_event.is_set():
                    raise
                await asyncio.sleep(SAID_AGAIN_S)

    async def _say_ended(self, job: Job, **ended: Any) -> None:
        row = await self.app.connector.execute_query_one_async(
            "SELECT count(*) AS own FROM procrastinate_jobs WHERE id = %(id)s AND worker_id = %(worker_id)s",
            id=job.id,
            worker_id=self.worker_id,
        )
        if row["own"]:
            await super()._persist_job_status(job, **ended)


class _WeighingWorker(_OwnJobsWorker):
    """Takes from the queue what it has the memory and the time for beside what it does already."""

    def __init__(self, *, at_once: int, memory_bytes: float, **options: Any) -> None:
        self._at_once, self._memory_bytes = at_once, memory_bytes
        self._running_jobs = {}
        super().__init__(concurrency=at_once + 1, **options)

    @property
    def queues(self) -> list[str]:  # asked each time before a job is fetched
        running = [each.job.queue for each in self._running_jobs.values()]
        return queues_that_fit(running, self._at_once, self._memory_bytes)

    @queues.setter
    def queues(self, _: object) -> None:
        """What it listens to follows from what it does."""

    async def _process_job(self, context: procrastinate.JobContext) -> None:
        try:
            await super()._process_job(context)
        finally:
            # With its place free, what did not fit may.
            asyncio.get_running_loop().call_soon(self._new_job_event.set)


def run_worker(config: Config, url: str) -> None:
    """Work until told to stop (SIGTERM or Ctrl-C). What is not done by then goes back on the queue."""
    arrange_logs("worker", as_json=config.logs == "json")
    open_database(url)
    open_depot(config, STORAGE_AWAY_S)
    start_watching(config)
    try:
        asyncio.run(_work(open_queue(url), config))
    except (procrastinate.exceptions.ConnectorException, *GONE) as error:
        logger.error("the worker ends, for the database does not answer: %s", str(error).strip().partition("\n")[0])
        sys.exit(1)


def workers_of(queue: procrastinate.App, config: Config, **options: Any) -> list[Worker]:
    """One for all that is measured and rendered, one for what is sent."""
    queue.perform_import_paths()
    told: dict[str, Any] = {
        "app": queue,
        "additional_context": {"config": config},
        "update_heartbeat_interval": HEARTBEAT_S,
        "stalled_worker_timeout": STALLED_S,
        "delete_jobs": "always",
        "install_signal_handlers": False,
        "shutdown_graceful_timeout": GRACE_S,
        **options,
    }
    memory_bytes = memory_for_works(config.worker_bytes)
    return [
        _WeighingWorker(at_once=config.worker_jobs, memory_bytes=memory_bytes, **told),
        _OwnJobsWorker(queues=[SENDING], concurrency=SENDINGS_AT_ONCE, **told),
    ]


async def _work(queue: procrastinate.App, config: Config) -> None:
    async with queue.open_async():
        workers = workers_of(queue, config, **await how_to_hear_of_work(queue))
        for number in (signal.SIGTERM, signal.SIGINT):
            asyncio.get_running_loop().add_signal_handler(number, _end, workers)
        beside = [asyncio.create_task(_rescue_for_ever(queue, workers)), asyncio.create_task(_mend_for_ever(config))]
        running = [asyncio.create_task(each.run()) for each in workers]
        try:
            # Where one of them ends by itself, its connection is gone: the whole process begins anew.
            await asyncio.wait(running, return_when=asyncio.FIRST_COMPLETED)
        finally:
            for each in workers:
                each.stop()
            for task in beside:
                task.cancel()
            ended = await asyncio.gather(*running, *beside, return_exceptions=True)
    for error in ended:
        if isinstance(error, Exception):
            raise error


async def how_to_hear_of_work(queue: procrastinate.App) -> dict[str, Any]:
    """Options of a worker that is about to begin: listening, or asking more often."""
    counted = await queue.connector.execute_query_one_async(
        "SELECT count(*) AS alive FROM procrastinate_workers"
        " WHERE last_heartbeat > now() - make_interval(secs => %(silent_s)s)",
        silent_s=STALLED_S,
    )
    listens = counted["alive"] < LISTENERS
    return {
        "listen_notify": listens,
        "fetch_job_polling_interval": ASKED_EVERY_S if listens else UNTOLD_ASK_EVERY_S,
    }


def _end(workers: Collection[Worker]) -> None:
    """What is not put back by then is found by others: a database that is away must not keep a worker from ending."""
    process_ends.set()
    last = threading.Timer(LONGEST_END_S, os._exit, [1])
    last.daemon = True
    last.start()
    for each in workers:
        each.stop()


async def _rescue_for_ever(queue: procrastinate.App, workers: Collection[Worker]) -> None:
    while True:
        begun_s = time.monotonic()
        await asyncio.sleep(HEARTBEAT_S)
        if time.monotonic() - begun_s > 2 * HEARTBEAT_S:
            continue  # we stood still, so the others may have too: they are given time to say that they live
        try:
            await rescue_stalled(queue, {each.worker_id for each in workers})
        except procrastinate.exceptions.ConnectorException as error:
            logger.warning("cannot look for stalled work: %s", error)


async def rescue_stalled(queue: procrastinate.App, alive: Collection[int | None] = ()) -> int:
    """Put the jobs of dead workers back on the queue, of no worker that is known to live; how many those were."""
    found = await queue.job_manager.get_stalled_jobs(seconds_since_heartbeat=STALLED_S)
    stalled = [job for job in found if job.worker_id is None or job.worker_id not in alive]
    for job in stalled:
        logger.warning("job %s (%s) lost its worker and starts over", job.id, job.task_name)
        with contextlib.suppress(procrastinate.exceptions.ConnectorException):  # another was quicker
            await queue.job_manager.retry_job(job)
    return len(stalled)


async def _mend_for_ever(config: Config) -> None:
    while True:
        await asyncio.sleep(MEND_EVERY_S)
        # Each by itself, and whatever happens to one: what was forgotten is found by nobody else.
        for look in (_mend, _sweep):
            try:
                await asyncio.to_thread(look, config)
            except (*GONE, OSError, DepotAwayError) as error:
                logger.warning("cannot look for what was forgotten, or is not needed any more: %s", error)
            except Exception:
                logger.exception("what was forgotten, or is not needed any more, could not be looked for")


def _mend(config: Config) -> None:
    # One worker for all of them, however many there are.
    with connected():
        if take_turn("mend", MEND_EVERY_S) and (count := requeue_forgotten()):
            logger.warning("%s found under way without a job, and queued again", count)


def _sweep(config: Config) -> None:
    # One worker for each data folder, which several may share, and one for the storage that is behind all of them.
    with connected():
        if take_turn(f"sweep {config.secret('folder')[:12]}", SWEEP_EVERY_S):
            sweep(config)
        if config.object_storage and take_turn("sweep storage", SWEEP_EVERY_S):
            sweep_storage(config)
