"""The roll of a job is made once while its sources stand as they are, and anew as soon as one of them does not."""

import hashlib
import threading

import pytest

from nicelevel.core.measure import measure
from nicelevel.desk import roll
from nicelevel.desk.roll import counting_sources, roll_of, with_neighbour_notes
from nicelevel.store import readings
from nicelevel.store.database import connected
from nicelevel.store.jobs import make_job
from nicelevel.store.models import Reading, Source
from nicelevel.store.readings import load_figures, save_reading
from nicelevel.store.sources import add_source, name_source, order_sources, sources_of, tell_source
from tests import signals

NAMES = ("Night ferry v1.wav", "Night ferry v2.wav", "Harbour.wav", "Harbour drums.wav")


@pytest.fixture
def made(monkeypatch):
    """A mark for every roll that was made."""
    make, marks = roll._make, []

    def counting(sources, audio):
        marks.append(len(sources))
        return make(sources, audio)

    monkeypatch.setattr(roll, "_make", counting)
    return marks


@pytest.fixture
def job(store, tmp_path):
    """Two versions of a title and what is named like a mix and its stem; a fifth that waits to be measured."""
    reading = measure(signals.write(tmp_path / "a.wav", signals.noise(2, -20, seed=1)))
    job = make_job("Work")
    for name in NAMES:
        digest = hashlib.sha256(name.encode()).hexdigest()
        save_reading(digest, reading, store)
        source = add_source(job.id, name, digest, 100)
        Source.update(state="measured").where(Source.id == source.id).execute()
    add_source(job.id, "Late.wav", "0" * 64, 100)
    return job


def named(job, title):
    return next(each for each in sources_of(job.id) if each.title == title)


def test_it_says_what_names_and_places_say(job, store):
    told = roll_of(job.id, store)
    older, newer = named(job, "Night ferry v1"), named(job, "Night ferry v2")
    assert (told.standings[older.id].counts, told.standings[newer.id].counts) == (False, True)
    assert [each.leader.title for each in told.proposed] == ["Harbour"]
    in_order = sorted(sources_of(job.id), key=lambda each: told.places[each.id])
    assert [each.title for each in in_order] == [
        "Night ferry v2",
        "Night ferry v1",
        "Harbour",
        "Harbour drums",
        "Late",
    ]
    assert told.group_of(older) == told.group_of(newer) != told.group_of(named(job, "Harbour"))
    counting = {each.title for each in counting_sources(job.id, store)}
    assert counting == {each.title for each in in_order} - {"Night ferry v1"}


def test_it_is_made_once_while_nothing_changes_but_how_far_something_is(job, store, made):
    first = roll_of(job.id, store)
    assert roll_of(job.id, store) is first
    tell_source(named(job, "Late"), 0.5)
    assert roll_of(job.id, store) is first
    assert made == [5]


@pytest.mark.parametrize(
    "change",
    [
        lambda job: name_source(named(job, "Harbour"), "Called otherwise"),
        lambda job: order_sources(job.id, [each.id for each in reversed(sources_of(job.id))]),
        lambda job: Source.update(counts=True).where(Source.id == named(job, "Night ferry v1").id).execute(),
        lambda job: Source.update(state="failed").where(Source.id == named(job, "Harbour").id).execute(),
        lambda job: add_source(job.id, "new.wav", "abc", 100),
    ],
)
def test_it_is_made_anew_by_whatever_concerns_the_others(job, store, made, change):
    first = roll_of(job.id, store)
    change(job)
    second = roll_of(job.id, store)
    assert second is not first
    assert len(made) == 2
    assert roll_of(job.id, store) is second


def test_pages_that_ask_at_once_wait_for_one(job, store, made):
    found = []
    asking = [threading.Thread(target=lambda: found.append(_in_thread(job, store))) for _ in range(4)]
    for each in asking:
        each.start()
    for each in asking:
        each.join()
    assert made == [5]
    assert all(each is found[0] for each in found)


def _in_thread(job, store):
    with connected():
        return roll_of(job.id, store)


def test_what_was_lost_is_left_out_and_comes_back(job, store, made):
    lost = named(job, "Night ferry v2")
    figures = load_figures(lost.digest, store)
    Reading.delete().where(Reading.digest == lost.digest).execute()
    readings._figures.clear()
    told = roll_of(job.id, store)
    assert (told.lost, lost.id in told.readings, told.standings) == (1, False, {})
    assert lost.id in told.places
    save_reading(lost.digest, figures, store)
    assert set(roll_of(job.id, store).standings) == {lost.id, named(job, "Night ferry v1").id}


def test_a_reading_has_what_its_neighbours_say(job, store, tmp_path):
    source = named(job, "Harbour")
    other = measure(signals.write(tmp_path / "b.wav", signals.noise(2, -20, seed=1), rate=44100))
    save_reading(source.digest, other, store)
    noted = with_neighbour_notes(source, other, store)
    assert {each.code for each in noted.notes} - {each.code for each in other.notes} == {"rate_outlier"}


def test_another_job_waits_for_no_roll(job, store, monkeypatch):
    other, make = make_job("Other"), roll._make
    inside, may_end = threading.Event(), threading.Event()

    def slow(sources, audio):
        if sources:
            inside.set()
            assert may_end.wait(30)
        return make(sources, audio)

    monkeypatch.setattr(roll, "_make", slow)
    found = []
    asking = threading.Thread(target=lambda: found.append(_in_thread(job, store)))
    asking.start()
    assert inside.wait(30)
    assert roll_of(other.id, store).places == {}
    may_end.set()
    asking.join()
    assert len(found[0].places) == 5
