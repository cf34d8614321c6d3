"""One worker process: runs tasks side by side and takes over the jobs of workers that died."""

import asyncio
import contextlib
import logging

import procrastinate

from nicelevel.config import Config
from nicelevel.store.database import open_database

from .app import HEARTBEAT_S, STALLED_S, open_queue

logger = logging.getLogger("nicelevel.work")


def run_worker(config: Config, url: str) -> None:
    """Work until told to stop (SIGTERM or Ctrl-C)."""
    logging.basicConfig(level=logging.INFO, format="%(asctime)s worker %(levelname)s %(message)s")
    logging.getLogger("procrastinate").setLevel(logging.WARNING)
    open_database(url)
    asyncio.run(_work(open_queue(url), config))


async def _work(queue: procrastinate.App, config: Config) -> None:
    async with queue.open_async():
        rescuer = asyncio.create_task(_rescue_for_ever(queue))
        try:
            await queue.run_worker_async(
                concurrency=config.worker_jobs,
                additional_context={"config": config},
                update_heartbeat_interval=HEARTBEAT_S,
                stalled_worker_timeout=STALLED_S,
                delete_jobs="successful",
            )
        finally:
            rescuer.cancel()
            with contextlib.suppress(asyncio.CancelledError):
                await rescuer


async def _rescue_for_ever(queue: procrastinate.App) -> None:
    while True:
        try:
            await rescue_stalled(queue)
        except procrastinate.exceptions.ConnectorException as error:
            logger.warning("cannot look for stalled work: %s", error)
        await asyncio.sleep(HEARTBEAT_S)


async def rescue_stalled(queue: procrastinate.App) -> int:
    """Put the jobs of dead workers back on the queue; how many those were."""
    stalled = list(await queue.job_manager.get_stalled_jobs(seconds_since_heartbeat=STALLED_S))
    for job in stalled:
        logger.warning("job %s (%s) lost its worker and starts over", job.id, job.task_name)
        await queue.job_manager.retry_job(job)
    return len(stalled)
