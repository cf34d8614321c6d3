"""Recipes of people's own, and rules for what comes into a job, by Flask's own client."""

import json

import numpy as np
import pytest

from nicelevel.core.recipes import parse_recipe, shipped_recipes
from nicelevel.store.recipes import find_recipe, known_recipes
from nicelevel.store.rules import rules_of
from nicelevel.store.sources import find_source
from nicelevel.work.enqueue import measure_again
from tests import signals

from .uploading import JSON, upload, wav

HIGH_PASS, GAIN = {"do": "high_pass", "hz": 80.0}, {"do": "gain", "db": -3.0}


@pytest.fixture
def take(client, job, work_off):
    source = upload(client, job, "take.wav", wav(signals.programme(2))).json["source"]
    work_off()
    return source


def _post(client, address, data=None):
    return client.post(address, data=data or {}, headers=JSON)


def _prepare(client, take, *steps):
    assert _post(client, f"/sources/{take}/prepare", {"steps": json.dumps(steps)}).status_code == 200


def _keep(client, take, name):
    return _post(client, f"/sources/{take}/prepare/keep", {"name": name})


def _import(client, toml, name="recipe.toml"):
    return client.post(f"/recipes/import?name={name}", data=toml, headers=JSON)


def test_steps_are_kept_under_a_name_and_are_its_next_version_when_they_changed(client, take):
    _prepare(client, take, HIGH_PASS, {**GAIN, "off": True})
    assert _keep(client, take, "Rumble").json == {"slug": "rumble", "version": 1}
    assert find_source(take).recipe_name == "Rumble"
    assert [step.do for step in find_recipe("rumble").recipe.steps] == ["high_pass"]  # what is off is no part of it
    _prepare(client, take, HIGH_PASS, GAIN)
    assert "Rumble, changed here" in client.get(f"/sources/{take}/prepare").text
    assert _keep(client, take, "Rumble").json["version"] == 2
    assert _keep(client, take, "Rumble").json["version"] == 2  # nothing changed
    first = client.get("/recipes/rumble.toml?version=1").text
    assert [step.do for step in parse_recipe(first, "rumble").steps] == ["high_pass"]
    assert [step.do for step in parse_recipe(client.get("/recipes/rumble.toml").text, "x").steps] == [
        "high_pass",
        "gain",
    ]


@pytest.mark.parametrize("name", ["", "x" * 81, "Mended", "Own steps", "Clean head"])
def test_a_name_that_cannot_be_one_is_answered_by_a_sentence(client, take, name):
    _prepare(client, take, HIGH_PASS)
    before = known_recipes().keys()
    answer = _keep(client, take, name)
    assert answer.status_code == 422
    assert len(answer.json["error"]["message"]) > 20
    assert known_recipes().keys() == before


def test_what_has_an_older_version_goes_on_with_it_until_it_is_brought_up(client, job, take, work_off):
    _prepare(client, take, HIGH_PASS)
    _keep(client, take, "Rumble")
    other = upload(client, job, "other.wav", wav(signals.programme(2, seed=5))).json["source"]
    changed = upload(client, job, "changed.wav", wav(signals.programme(2, seed=6))).json["source"]
    work_off()
    for source in (other, changed):
        _post(client, f"/jobs/{job.id}/prepare", {"recipe": "rumble", "source": source})
    _prepare(client, changed, GAIN)
    _prepare(client, take, HIGH_PASS, GAIN)
    _keep(client, take, "Rumble")
    assert "Rumble, version 1; 2 is the newest" in client.get(f"/sources/{other}/prepare").text
    page = client.get("/recipes/").text
    assert "3 sources prepared by it, 1 by an older version" in page
    assert _post(client, "/recipes/rumble/bring-up").json == {"sources": 1}
    assert [each["do"] for each in json.loads(find_source(other).recipe_json)] == ["high_pass", "gain"]
    assert [each["do"] for each in json.loads(find_source(changed).recipe_json)] == ["gain"]
    assert _post(client, f"/jobs/{job.id}/undo").json["undone"] == "brought Rumble up to version 2"
    assert [each["do"] for each in json.loads(find_source(other).recipe_json)] == ["high_pass"]


def test_copied_renamed_an_older_version_again_deleted_and_brought_back(client, take):
    assert _post(client, "/recipes/clean-head/copy").json["slug"] == "clean-head-own"
    assert _post(client, "/recipes/clean-head/copy").json["slug"] == "clean-head-own-2"
    assert find_recipe("clean-head-own").recipe.steps == shipped_recipes()["clean-head"].steps
    _prepare(client, take, HIGH_PASS)
    _keep(client, take, "Rumble")
    _prepare(client, take, GAIN)
    _keep(client, take, "Rumble")
    assert _post(client, "/recipes/rumble/rename", {"name": "Thunder"}).json["slug"] == "rumble"
    assert find_source(take).recipe_name == "Thunder"
    assert _post(client, "/recipes/rumble/rename", {"name": "Clean head"}).status_code == 422
    assert _post(client, "/recipes/rumble/again", {"version": 1}).json == {"slug": "rumble", "version": 4}
    assert find_recipe("rumble").name == "Thunder"
    assert [step.do for step in find_recipe("rumble").recipe.steps] == ["high_pass"]
    _post(client, "/recipes/rumble/delete")
    assert "rumble" not in known_recipes()
    assert json.loads(find_source(take).recipe_json)[0]["do"] == "gain"
    assert _post(client, "/specs/undo").json["undone"] == "deleted Thunder"
    assert find_recipe("rumble").version == 4


def test_one_with_the_name_of_what_lies_in_the_trash_is_its_next_version(client, take):
    _import(client, '[recipe]\nname = "Mine"\n[[steps]]\ndo = "dc"\n')
    _post(client, "/recipes/mine/delete")
    answer = _import(client, '[recipe]\nname = "Mine"\n[[steps]]\ndo = "tick"\n')
    assert answer.json == {"slug": "mine", "version": 2}
    assert "mine" in known_recipes()


@pytest.mark.parametrize("slug", ["clean-head", "even-out-speech"])
def test_those_that_ship_stay_as_they_are(client, slug):
    for do in ("rename", "delete"):
        answer = _post(client, f"/recipes/{slug}/{do}", {"name": "Other"})
        assert answer.status_code == 422
        assert "ships with Nice Level" in answer.json["error"]["message"]
    text = client.get(f"/recipes/{slug}.toml").text
    assert "ships with Nice Level" in _import(client, text).json["error"]["message"]


def test_what_is_exported_comes_in_again_as_it_is(client, take):
    _prepare(client, take, {"do": "gate", "below_db": -42.0}, {"do": "pauses", "keep_s": 0.4}, {"do": "even"})
    _keep(client, take, "Talk")
    text = client.get("/recipes/talk.toml").text
    other = _import(client, text.replace('"Talk"', '"Talk again"')).json["slug"]
    assert find_recipe(other).recipe.steps == find_recipe("talk").recipe.steps
    assert _import(client, b"\xff\xfe\x00").status_code == 422
    assert (
        "step 1, hz"
        in _import(client, '[recipe]\nname="A"\n[[steps]]\ndo="high_pass"\nhz=-1\n').json["error"]["message"]
    )


def test_the_same_steps_for_more_sources_and_every_change_after(client, job, take, work_off):
    others = [upload(client, job, f"{n}.wav", wav(signals.programme(2, seed=n))).json["source"] for n in (3, 4)]
    work_off()
    _prepare(client, take, HIGH_PASS)
    assert _post(client, f"/sources/{take}/prepare/share", {"with": others[:1]}).json == {"sources": 2}
    page = client.get(f"/sources/{take}/prepare?with={others[0]}").text
    assert "and 1 more" in page
    steps = {"steps": json.dumps([HIGH_PASS, GAIN])}
    _post(client, f"/sources/{take}/prepare?with={others[0]}", steps)
    _post(client, f"/sources/{take}/prepare/add?with={others[0]}", {"do": "dc"})
    kinds = [
        [each["do"] for each in json.loads(find_source(source).recipe_json or "[]")] for source in (take, *others)
    ]
    assert kinds == [["high_pass", "gain", "dc"], ["high_pass", "gain", "dc"], []]
    _post(client, f"/jobs/{job.id}/undo")
    assert len(json.loads(find_source(others[0]).recipe_json)) == 2


def _rule(client, job, **told):
    return _post(client, f"/jobs/{job.id}/rules/", told)


def test_what_comes_in_is_prepared_by_the_first_rule_that_fits(client, job, work_off):
    assert _rule(client, job, channels="one", name_has="promo", recipe="voice-for-a-machine").status_code == 200
    _rule(client, job, channels="one", recipe="clean-head")
    _rule(client, job, channels="more", kind="coded", recipe="news-from-outside")
    mono, stereo = signals.programme(2)[:, :1], signals.programme(2)
    stereo = stereo if stereo.shape[1] == 2 else stereo.repeat(2, axis=1)
    taken = {
        name: upload(client, job, name, wav(sound)).json["source"]
        for name, sound in {"Promo 1.wav": mono, "talk.wav": mono * 0.5, "both promo.wav": stereo}.items()
    }
    work_off()
    assert [find_source(each).recipe_name for each in taken.values()] == ["Voice for a machine", "Clean head", None]
    page = client.get(f"/jobs/{job.id}/rules/").text
    assert "A file in one channel whose name has “promo” is prepared by Voice for a machine." in page
    assert "Also for the 1 here that is as it came" in page


def test_rules_are_asked_once_and_what_a_person_left_as_it_came_stays(client, job, work_off):
    _rule(client, job, recipe="clean-head")
    source = upload(client, job, "take.wav", wav(signals.programme(2))).json["source"]
    work_off()
    assert find_source(source).recipe_name == "Clean head"
    _post(client, f"/jobs/{job.id}/prepare", {"recipe": "", "source": source})
    measure_again(find_source(source))
    work_off()
    assert find_source(source).recipe_name is None
    assert _post(client, f"/jobs/{job.id}/rules/apply").json == {"sources": 1}
    assert find_source(source).recipe_name == "Clean head"


def test_what_is_noted_is_mended_by_rule_and_a_rule_is_taken_away_and_back(client, job, work_off):
    _rule(client, job, mends="on")
    ticking = np.concatenate([signals.silence(0.3), signals.programme(2)])
    ticking[40:60] = 0.5
    source = upload(client, job, "tick.wav", wav(ticking)).json["source"]
    clean = upload(client, job, "clean.wav", wav(signals.programme(2, seed=9))).json["source"]
    work_off()
    assert (find_source(source).recipe_name, find_source(clean).recipe_name) == ("Mended", None)
    assert "Every file is mended where that is noted." in client.get(f"/jobs/{job.id}/rules/").text
    (rule,) = rules_of(job.id)
    assert _post(client, f"/jobs/{job.id}/rules/{rule.id}/remove").json == {"rules": 0}
    _post(client, f"/jobs/{job.id}/undo")
    assert [(each.id, each.recipe) for each in rules_of(job.id)] == [(rule.id, None)]


@pytest.mark.parametrize(
    "told",
    [
        {"kind": "loud"},
        {"channels": "7"},
        {"recipe": "none-such"},
        {"name_has": "x" * 101},
    ],
)
def test_a_rule_that_makes_no_sense_is_answered_by_a_sentence(client, job, told):
    answer = _rule(client, job, **told)
    assert answer.status_code == 422
    assert len(answer.json["error"]["message"]) > 20
