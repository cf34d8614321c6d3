"""From every older schema to this one: with work in it, in one go, to the very tables that a new start makes."""

import subprocess
from contextlib import contextmanager

import psycopg
import pytest

from nicelevel.run.cluster import newest_program
from nicelevel.store.database import _runner, connected, database, migrate, open_database
from nicelevel.store.deliverables import deliverables_of
from nicelevel.store.jobs import destinations_of, find_job
from nicelevel.store.models import Deliverable
from nicelevel.store.sources import sources_of
from nicelevel.web import create_app
from nicelevel.work.app import prepare_queue

SPEC = """
[spec]
name = "Feed"
[[formats]]
container = "wav"
encoding = "pcm_24"
"""
NAMES = sorted(each.name for each in _runner().migrations())


@contextmanager
def empty_database(url, name):
    """A database of its own on the tests' server."""
    with psycopg.connect(url, autocommit=True) as server:
        server.execute(f'DROP DATABASE IF EXISTS "{name}" WITH (FORCE)')
        server.execute(f'CREATE DATABASE "{name}"')
    own = url.rpartition("/")[0] + f"/{name}"
    database.close_all()  # connections that wait in the pool are to another
    open_database(own)
    try:
        yield own
    finally:
        database.close_all()
        open_database(url)


def schema_of(url):
    """As PostgreSQL tells it, but for the order of columns, which later ones are added to."""
    command = [str(newest_program("pg_dump")), "--schema-only", "--no-owner", url]
    told = subprocess.run(command, capture_output=True, text=True, check=True).stdout
    lines = (line.strip().rstrip(",") for line in told.splitlines())
    return sorted(line for line in lines if line and not line.startswith(("--", "\\", "SET", "SELECT")))


@pytest.fixture(scope="module")
def fresh_schema(database_url):
    with empty_database(database_url, "fresh") as url:
        migrate()
        prepare_queue(url)
        return schema_of(url)


def fill_as_it_was_at_first():
    """A job with a source, a destination and a file that was written, in the first tables."""
    for statement in (
        "INSERT INTO job (title) VALUES ('Ferry')",
        f"INSERT INTO spec_version (slug, digest, toml) VALUES ('feed', '{'d' * 64}', '{SPEC}')",
        "INSERT INTO source (job_id, file_name, title, kind, digest, size_bytes, state, progress_ratio)"
        f" VALUES (1, 'mix.wav', 'Mix', 'mix', '{'a' * 64}', 10, 'failed', 0)",
        "INSERT INTO destination (job_id, spec_id, place) VALUES (1, 1, 1)",
        "INSERT INTO deliverable (source_id, destination_id, format_number, state, progress_ratio, file_name, sha256,"
        " size_bytes, plan, measured) VALUES (1, 1, 0, 'proved', 1, 'mix.wav', 'b', 10, '{\"format\": {\"container\":"
        ' "wav", "encoding": "pcm_24", "sample_rate": 48000, "layout": "stereo", "channel": null},'
        ' "gain_db": 0.0, "action": "gain"}\', \'{}\')',
    ):
        database.execute_sql(statement)


@pytest.mark.parametrize("older", NAMES[:-1])
def test_from_every_older_schema_to_this_one(config, database_url, fresh_schema, older):
    with empty_database(database_url, "older") as url:
        with connected():
            runner = _runner()
            runner.up(NAMES[0])
            fill_as_it_was_at_first()
            if older != NAMES[0]:
                runner.up(older)
            assert sorted(runner.applied())[-1] == older
        ran = migrate()
        assert ran == NAMES[NAMES.index(older) + 1 :]
        prepare_queue(url)
        assert schema_of(url) == fresh_schema
        with connected():
            job = find_job(1)
            assert (job.title, [each.title for each in sources_of(1)]) == ("Ferry", ["Mix"])
            assert [each.place for each in destinations_of(1)] == [1]
            (made,) = Deliverable.select()
            assert (made.state, made.output) == ("proved", "1 · wav pcm_24 keep keep tpdf")
            assert [each.id for each in deliverables_of(1)] == [made.id]
        client = create_app(config, url).test_client()
        for page in ("/", "/jobs/1", "/jobs/1/handover", "/jobs/1/journal", "/specs/feed", "/arrivals/", "/runs"):
            assert client.get(page).status_code == 200, page
