"""The queue's own tables: made once, and brought up to the version that ships; what it does not take at once."""

import asyncio
from urllib.parse import urlsplit

import psycopg
import pytest
from procrastinate.exceptions import ConnectorException
from procrastinate.manager import JobManager

from nicelevel.work.app import FIRST_QUEUE, open_queue, prepare_queue, queue_migrations
from nicelevel.work.worker import workers_of
from tests import signals

FUNCTIONS = (
    "SELECT proname FROM pg_proc WHERE proname LIKE 'procrastinate%' ORDER BY proname, pg_get_function_arguments(oid)"
)
OLDER = "03.03.00_01_pre_priority_lock_fetch_job.sql"


@pytest.fixture
def empty_url(database_url):
    """A database without any table."""
    with psycopg.connect(database_url, autocommit=True) as connection:
        connection.execute("DROP DATABASE IF EXISTS upgraded")
        connection.execute("CREATE DATABASE upgraded")
    yield urlsplit(database_url)._replace(path="/upgraded").geturl()
    with psycopg.connect(database_url, autocommit=True) as connection:
        connection.execute("DROP DATABASE upgraded WITH (FORCE)")


def _functions(url):
    with psycopg.connect(url) as connection:
        return connection.execute(FUNCTIONS).fetchall()


def _applied(url):
    with psycopg.connect(url) as connection:
        return {name for (name,) in connection.execute("SELECT name FROM queue_migration")}


def test_a_queue_of_an_older_version_is_brought_up_to_this_one(empty_url, database_url):
    """Made by the migrations of its makers up to an earlier version, with work in it: that stays."""
    with psycopg.connect(empty_url, autocommit=True) as connection:
        connection.execute("CREATE TABLE queue_migration (name text PRIMARY KEY)")
        for migration in queue_migrations():
            if migration.name <= OLDER:
                connection.execute(migration.read_text())
                connection.execute("INSERT INTO queue_migration VALUES (%s)", (migration.name,))
        connection.execute("INSERT INTO procrastinate_jobs (queue_name, task_name) VALUES ('default', 'measure')")
    assert _functions(empty_url) != _functions(database_url)
    prepare_queue(empty_url)
    prepare_queue(empty_url)
    assert set(_functions(database_url)) <= set(_functions(empty_url))
    assert _applied(empty_url) == {each.name for each in queue_migrations()}
    with psycopg.connect(empty_url) as connection:
        assert connection.execute("SELECT task_name, status FROM procrastinate_jobs").fetchall() == [
            ("measure", "todo")
        ]


def test_a_queue_from_before_upgrades_were_kept_is_taken_for_what_it_is(empty_url, database_url):
    prepare_queue(empty_url)
    with psycopg.connect(empty_url) as connection:
        connection.execute("DROP TABLE queue_migration")
    prepare_queue(empty_url)
    assert {each.name for each in queue_migrations() if each.name <= FIRST_QUEUE} <= _applied(empty_url)
    assert _functions(empty_url) == _functions(database_url)


def test_an_end_that_the_database_did_not_take_is_said_again(take_in, store, config, monkeypatch):
    """Else the job counts as being done for as long as its worker lives, and nobody does what comes after it."""
    finish, refused = JobManager.finish_job, []

    async def refuse_once(manager, job, **ended):
        if not refused:
            refused.append(job.id)
            raise ConnectorException("could not extend file: No space left on device")
        await finish(manager, job, **ended)

    monkeypatch.setattr(JobManager, "finish_job", refuse_once)
    take_in("mix.wav", signals.noise(1))
    asyncio.run(_work_until_nothing_is_left(config))
    assert len(refused) == 1


async def _work_until_nothing_is_left(config):
    queue = open_queue(config.database_url)
    async with queue.open_async():
        worker = workers_of(queue, config)[0]
        running = asyncio.create_task(worker.run())
        async with asyncio.timeout(60):
            while list(await queue.job_manager.list_jobs_async()):
                await asyncio.sleep(0.1)
        worker.stop()
        await running
