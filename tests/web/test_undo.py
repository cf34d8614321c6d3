"""Jobs, sources and specs have a life: named, ordered, put away, thrown away; and every change can be taken back."""

import re

import pytest

from nicelevel.store.jobs import all_jobs, destinations_of, find_job
from nicelevel.store.own_targets import own_targets_of
from nicelevel.store.sources import find_source, sources_of
from nicelevel.store.specs import known_spec, known_specs
from tests import signals

from .uploading import JSON, upload, wav

STEMS = [0.3 * signals.programme(4, seed=seed) for seed in (7, 8)]


@pytest.fixture
def three(client, job, work_off):
    for name, level in (("low", -40), ("middle", -30), ("loud", -20)):
        upload(client, job, f"{name}.wav", wav(signals.noise(3, level, seed=-level)))
    work_off()
    return job


def _titles(client, job):
    return re.findall(r'<td class="name">\s*<b[^>]*>([^<]+)</b>', client.get(f"/jobs/{job.id}/parts").text)


def _by_title(job, title):
    return next(each for each in sources_of(job.id) if each.title == title)


def _undo(client, job, **fields):
    return client.post(f"/jobs/{job.id}/undo", data=fields, headers=JSON).json["undone"]


def test_what_is_taken_out_comes_back_with_all_that_it_had(client, three, work_off):
    low, loud = _by_title(three, "low"), _by_title(three, "loud")
    place = destinations_of(three.id)[0]
    client.post(f"/sources/{loud.id}/target/{place.id}", data={"target": "-20"}, headers=JSON)
    client.post(f"/sources/{loud.id}/link", data={"member": low.id}, headers=JSON)
    client.post(f"/jobs/{three.id}/sources/remove", data={"source": [low.id, loud.id]}, headers=JSON)
    assert _titles(client, three) == ["middle"]
    assert client.get(f"/sources/{loud.id}/reading").status_code == 200, "who has its page open still sees it"
    assert _undo(client, three) == "took out low and loud"
    assert find_source(low.id).leader_id == loud.id
    assert find_source(loud.id).set_kind == "sum"
    assert own_targets_of(three.id) == {(loud.id, place.id): -20.0}
    assert _undo(client, three) == "made one set of loud and its stems"
    assert _undo(client, three) == "changed the target of loud"
    assert own_targets_of(three.id) == {}
    assert _undo(client, three) is None
    assert _undo(client, three, again="1") == "changed the target of loud"
    assert own_targets_of(three.id) == {(loud.id, place.id): -20.0}


def test_a_new_change_ends_what_could_be_done_again(client, three):
    low = _by_title(three, "low")
    client.post(f"/sources/{low.id}/name", data={"title": "Quiet one"}, headers=JSON)
    assert _undo(client, three) == "renamed low"
    assert find_source(low.id).title == "low"
    client.post(f"/sources/{low.id}/name", data={"title": "Other"}, headers=JSON)
    assert _undo(client, three, again="1") is None
    assert find_source(low.id).title == "Other"
    client.post(f"/sources/{low.id}/name", data={"title": "  "}, headers=JSON)
    assert find_source(low.id).title == "low"


def test_rows_are_ordered_by_hand(client, three):
    assert _titles(client, three) == ["low", "middle", "loud"]
    client.post(f"/sources/{_by_title(three, 'loud').id}/move", data={"up": "1"}, headers=JSON)
    assert _titles(client, three) == ["low", "loud", "middle"]
    client.post(f"/sources/{_by_title(three, 'low').id}/move", headers=JSON)
    assert _titles(client, three) == ["loud", "low", "middle"]
    assert client.post(f"/sources/{_by_title(three, 'middle').id}/move", headers=JSON).json == {"moved": False}
    upload(client, three, "new.wav", wav(signals.noise(1, -20)))
    assert _titles(client, three)[-1] == "new"
    assert _undo(client, three) == "moved low"
    assert _titles(client, three) == ["low", "loud", "middle", "new"]


def test_a_set_that_was_made_at_intake_is_undone_and_not_made_again(client, job, work_off):
    upload(client, job, "song.wav", wav(sum(STEMS)))
    for name, stem in zip("ab", STEMS, strict=True):
        upload(client, job, f"song_{name}.wav", wav(stem))
    work_off()
    assert _undo(client, job) == "made one set of song and its stems"
    assert all(each.leader_id is None for each in sources_of(job.id))
    upload(client, job, "other.wav", wav(signals.noise(2, -20)))
    work_off()
    assert all(each.leader_id is None for each in sources_of(job.id))
    assert "data-answer" not in client.get(f"/jobs/{job.id}/parts").text
    assert _undo(client, job, again="1") == "made one set of song and its stems"
    assert sum(each.leader_id is not None for each in sources_of(job.id)) == 2


def test_a_destination_that_was_taken_off_comes_back_by_undo_or_by_adding_it(client, three, work_off):
    client.post(f"/jobs/{three.id}/render", headers=JSON)
    work_off()
    first = destinations_of(three.id)[0]
    proved = client.get(f"/jobs/{three.id}/parts").text.count('data-state="proved"')
    client.post(f"/destinations/{first.id}/remove", headers=JSON)
    assert first.id not in {each.id for each in destinations_of(three.id)}
    assert _undo(client, three).startswith("took ")
    assert client.get(f"/jobs/{three.id}/parts").text.count('data-state="proved"') == proved
    client.post(f"/destinations/{first.id}/remove", headers=JSON)
    client.post(f"/jobs/{three.id}/destinations", data={"slug": first.spec.slug})
    assert destinations_of(three.id)[-1].id == first.id


def test_a_job_is_renamed_dated_archived_thrown_away_and_all_of_it_taken_back(client, job):
    def on_list(**fields):
        return client.post("/jobs/undo", data=fields, headers=JSON).json["undone"]

    assert client.post(f"/jobs/{job.id}/name", data={"title": " "}, headers=JSON).status_code == 422
    client.post(f"/jobs/{job.id}/name", data={"title": "Winter"}, headers=JSON)
    wrong = client.post(f"/jobs/{job.id}/due", data={"due_on": "4.12.2026"}, headers=JSON)
    assert (wrong.status_code, wrong.json["error"]["key"]) == (422, "due_on")
    client.post(f"/jobs/{job.id}/due", data={"due_on": "2026-12-04"}, headers=JSON)
    other = client.post("/jobs", data={"title": "Later"}, headers=JSON).json["id"]
    client.post(f"/jobs/{other}/archive", headers=JSON)
    assert [each.id for each in all_jobs()] == [job.id, other]
    client.post(f"/jobs/{job.id}/delete", headers=JSON)
    assert [each.id for each in all_jobs()] == [other]
    assert client.get(f"/jobs/{job.id}").status_code == 404
    assert on_list() == "deleted Winter"
    assert on_list() == "archived Later"
    assert on_list() == "changed when Winter is due"
    assert on_list() == "renamed Work"
    assert (find_job(job.id).title, find_job(job.id).due_on) == ("Work", None)
    assert on_list() is None
    assert on_list(again="1") == "renamed Work"


def test_specs_begin_empty_are_deleted_and_come_back(client, job):
    slug = client.post("/specs/new", headers=JSON).json["slug"]
    assert (slug, known_spec(slug).spec.loudness) == ("new-spec", None)
    client.post(f"/jobs/{job.id}/destinations", data={"slug": slug})
    refused = client.post(f"/specs/{slug}/delete", headers=JSON)
    assert "take it off first" in refused.json["error"]["message"]
    client.post(f"/destinations/{destinations_of(job.id)[-1].id}/remove", headers=JSON)
    client.post(f"/specs/{slug}/delete", headers=JSON)
    assert slug not in known_specs()
    assert client.post("/specs/new", headers=JSON).json["slug"] == "new-spec-2"
    assert client.post("/specs/undo", headers=JSON).json["undone"] == "deleted New spec"
    assert slug in known_specs()
    assert client.post("/specs/podcast/delete", headers=JSON).status_code == 422


def test_a_copied_spec_is_used_in_the_job_at_once(client, job):
    answer = client.post(f"/specs/podcast/copy?job={job.id}", data={"use": "1"}, headers=JSON).json
    assert destinations_of(job.id)[-1].spec.slug == answer["slug"] == "podcast-feed-own"
