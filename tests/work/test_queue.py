"""The queue's own tables: made once, and brought up to the version that ships."""

from urllib.parse import urlsplit

import psycopg
import pytest

from nicelevel.work.app import FIRST_QUEUE, prepare_queue, queue_migrations

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
