"""Every change keeps who made it and when, in words; and whoever looks for it finds it."""

import inspect
from functools import partial

import pytest

from nicelevel.store.door_models import JournalEntry
from nicelevel.store.jobs import FIRST_DESTINATIONS
from nicelevel.store.journal import enter
from nicelevel.store.recipes import known_recipes
from nicelevel.store.sources import sources_of
from nicelevel.store.specs import known_specs
from nicelevel.web.security import SAFE_METHODS
from tests import signals

from .signing_in import app_with_accounts, browser_of
from .uploading import JSON, upload, wav

QUIET = {
    # Drawn, and nothing is kept.
    "specs.draft",
    "preparing.draft",
    "channels.draft",
    # What somebody hears, and whose screen shows what.
    "hearing.begin",
    "hearing.answer",
    "jobs.seen",
    # Pieces of a file: it is told once all of it is there.
    "uploads.stop",
}


@pytest.fixture
def work(client, job, work_off):
    """A job with two measured sources, one of them rendered."""
    for name, seed in (("Night ferry.wav", 2), ("Day ferry.wav", 3)):
        upload(client, job, name, wav(signals.programme(9, seed=seed)))
    work_off()
    client.post(f"/jobs/{job.id}/render", data={"source": sources_of(job.id)[0].id}, headers=JSON)
    work_off()
    return job


def entries(job=None):
    found = JournalEntry.select().where(JournalEntry.job == job if job else JournalEntry.job.is_null())
    return [(each.who, each.words) for each in found.order_by(JournalEntry.id)]


def test_a_job_says_what_became_of_it_in_order(client, work):
    source, further = sources_of(work.id)[0], next(each for each in known_specs() if each not in FIRST_DESTINATIONS)
    calls = [
        (f"/jobs/{work.id}/name", {"title": "Ferries"}, "renamed Work"),
        (f"/sources/{source.id}/name", {"title": "By night"}, "renamed Night ferry"),
        (f"/jobs/{work.id}/undo", {}, "took back: renamed Night ferry"),
        (f"/jobs/{work.id}/undo", {"again": "1"}, "did again: renamed Night ferry"),
        (f"/sources/{source.id}/prepare/add", {"do": "gate"}, "added a step to By night"),
        (f"/jobs/{work.id}/destinations", {"slug": further}, f"added {further}"),
        (f"/jobs/{work.id}/render", {}, "had "),
        (f"/jobs/{work.id}/stop", {}, "stopped "),
        (f"/jobs/{work.id}/sendings", {"address": "http://127.0.0.1:9/packages"}, "sent the package to http"),
        (f"/jobs/{work.id}/links", {"client": "The ferry"}, "made a link for The ferry"),
        (f"/sources/{source.id}/remove", {}, "took out By night"),
    ]
    begun = [words for _, words in entries(work)]
    assert begun[:3] == ["made the job", "took in Night ferry.wav", "took in Day ferry.wav"]
    assert begun[3].startswith("had ")
    for path, fields, words in calls:
        before = len(entries(work))
        answer = client.post(path, data=fields, headers=JSON)
        assert answer.status_code in (200, 302), (path, answer.text)
        told = entries(work)[before:]
        assert len(told) == 1, (path, told)
        assert told[0][0] == "at this machine"
        assert told[0][1].startswith(words), (path, told)


def test_a_refused_change_is_not_told(client, work):
    before = len(entries(work))
    assert client.post(f"/jobs/{work.id}/sendings", data={"address": "nonsense"}, headers=JSON).status_code == 422
    assert client.post(f"/jobs/{work.id}/name", data={"title": " "}, headers=JSON).status_code == 422
    assert len(entries(work)) == before


def test_the_house_says_what_belongs_to_no_job(client, job):
    slug = client.post("/specs/podcast/copy", headers=JSON).json["slug"]
    client.post(f"/specs/{slug}/delete", headers=JSON)
    client.post(f"/recipes/{next(iter(known_recipes()))}/copy", headers=JSON)
    client.post(f"/jobs/{job.id}/delete", headers=JSON)
    client.post("/trash/empty", headers=JSON)
    words = [words for _, words in entries()]
    assert words[0].startswith("kept Podcast")
    assert words[1].startswith("deleted Podcast")
    assert words[2].startswith("kept the recipe")
    assert words[3].startswith("emptied the trash with Work, which freed")


def test_who_it_was_is_whoever_is_signed_in(config, job, store):
    app = app_with_accounts(config)
    one, two = browser_of(app, "One"), browser_of(app, "Two")
    one.post(f"/jobs/{job.id}/name", {"title": "First"}, page="/recipes/")
    two.post(f"/jobs/{job.id}/name", {"title": "Second"}, page="/recipes/")
    one.post(f"/jobs/{job.id}/undo", page="/recipes/")
    told = [("One", "renamed Work"), ("Two", "renamed First"), ("One", "took back: renamed First")]
    assert entries(job)[-3:] == told
    page = one.get(f"/jobs/{job.id}/journal?who=Two").text
    assert "renamed First" in page
    assert "renamed Work" not in page
    page = one.get(f"/jobs/{job.id}/journal?words=TOOK").text
    assert "took back: renamed First" in page
    assert "<b>Two</b>" not in page
    assert "Nothing like that" in one.get(f"/jobs/{job.id}/journal?words=%25").text


def test_what_was_before_is_turned_to(client, job):
    for number in range(205):
        JournalEntry.create(job=job, who="One", words=f"did number {number}")
    page = client.get(f"/jobs/{job.id}/journal").text
    assert "did number 204<" in page
    assert "did number 4<" not in page
    older = page.split("before=")[1].split('"')[0]
    page = client.get(f"/jobs/{job.id}/journal?before={older}").text
    assert "did number 4<" in page
    assert "made the job" in page


def test_every_address_that_changes_something_reaches_the_journal(app):
    """Whoever adds one writes it down, or says above why there is nothing to write."""
    changing = {rule.endpoint for rule in app.url_map.iter_rules() if rule.methods - SAFE_METHODS}
    told = {each for each in changing if enter in reached_from(app.view_functions[each], set())}
    assert changing - told == QUIET


def reached_from(function, reached):
    """Functions of ours that one calls by name, and those that they call."""
    function = inspect.unwrap(function.func if isinstance(function, partial) else function)
    if function in reached or not getattr(function, "__module__", "").startswith("nicelevel."):
        return reached
    reached.add(function)
    for name in names_in(function.__code__):
        called = function.__globals__.get(name)
        if inspect.isfunction(called):
            reached_from(called, reached)
    return reached


def names_in(code):
    yield from code.co_names
    for each in code.co_consts:
        if inspect.iscode(each):
            yield from names_in(each)
