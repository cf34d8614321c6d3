"""Rows kept in memory are what the database has, whoever changed it and however it ended."""

import psycopg
import pytest
from peewee import fn

from nicelevel.store import kept_sources
from nicelevel.store.database import database
from nicelevel.store.jobs import make_job
from nicelevel.store.models import Source
from nicelevel.store.sources import add_source, give_recipe, name_source, sources_of, tell_source
from nicelevel.store.trash import trash_source


@pytest.fixture
def job(store):
    job = make_job("Work")
    for number in range(5):
        add_source(job.id, f"{number}.wav", "abc", 100)
    assert len(sources_of(job.id)) == 5
    return job


@pytest.fixture
def asked(monkeypatch):
    """How many rows were read, for each time that any were."""
    read, counts = kept_sources._read, []

    def counting(source_ids):
        counts.append(len(source_ids))
        return read(source_ids)

    monkeypatch.setattr(kept_sources, "_read", counting)
    return counts


def as_read(job):
    """The rows as peewee reads them, in the order of a board."""
    place = fn.COALESCE(Source.leader, Source.id)
    here = Source.select().where(Source.job == job.id, Source.trashed_at.is_null())
    return [each.__data__ for each in here.order_by(place, Source.id != place, Source.id)]


def kept(job):
    return [each.__data__ for each in sources_of(job.id)]


def test_only_what_was_changed_is_read_again(job, asked):
    first, second, *_ = sources_of(job.id)
    name_source(first, "Another")
    give_recipe(second, '[{"trim": 1}]', "Mended")
    assert kept(job) == as_read(job)
    assert kept(job) == as_read(job)
    assert asked == [0, 2, 0]


def test_what_another_connection_changed_is_read_again(job, database_url):
    with psycopg.connect(database_url) as other:
        other.execute("UPDATE source SET sum_check = '{\"adds_up\": true}', place = 7 WHERE job_id = %s", (job.id,))
    assert kept(job) == as_read(job)
    assert {each.place for each in sources_of(job.id)} == {7.0}


def test_what_was_taken_back_is_as_it_was(job):
    before = kept(job)
    with database.atomic() as change:
        name_source(sources_of(job.id)[0], "Never")
        name_source(sources_of(job.id)[0], "Neither")
        assert sources_of(job.id)[0].title == "Neither"
        change.rollback()
    assert kept(job) == before == as_read(job)


def test_what_comes_and_goes_comes_and_goes(job):
    first, second, *others = sources_of(job.id)
    trash_source(first)
    add_source(job.id, "new.wav", "def", 100)
    Source.update(leader=others[-1].id).where(Source.id == second.id).execute()
    assert kept(job) == as_read(job)
    assert [each.title for each in sources_of(job.id)] == ["2", "3", "4", "1", "new"]


def test_what_one_does_to_a_source_in_hand_is_nobody_elses(job):
    source = sources_of(job.id)[0]
    source.title, source.leader = "Mine alone", sources_of(job.id)[1]
    assert (sources_of(job.id)[0].title, sources_of(job.id)[0].leader_id) == ("0", None)


def test_how_far_a_measurement_is_is_told(job):
    assert tell_source(sources_of(job.id)[0], 0.25)
    assert [each.progress_ratio for each in sources_of(job.id)] == [0.25, 0.0, 0.0, 0.0, 0.0]


def test_no_more_is_kept_than_there_is_room_for(job, monkeypatch, asked):
    monkeypatch.setattr(kept_sources, "ROWS_REMEMBERED", 6)
    other = make_job("Other")
    for number in range(4):
        add_source(other.id, f"{number}.wav", "abc", 100)
    sources_of(other.id)
    assert [whose[1] for whose in kept_sources._kept] == [other.id]
    assert kept(job) == as_read(job)
    assert asked == [4, 5]
