"""Preparing by Flask's own client: steps kept, drawn, heard; what is wrong has its sentence."""

import json
import re

import numpy as np
import pytest

from nicelevel.core.steps import STEPS, recipe_from_json
from nicelevel.core.steps.hops import Hops
from nicelevel.core.steps.table import OF_SPECS
from nicelevel.desk.contents import contents_of, steps_with_off
from nicelevel.report.prepare_view import NAMES, SENTENCES, first_of, sentence_of
from nicelevel.store.readings import load_reading
from nicelevel.store.sources import find_source
from tests import signals
from tests.core.preparing import chain_of

from .uploading import JSON, upload, wav

RATE = 48_000


def _sound():
    parts = [signals.silence(0.5), signals.programme(2, seed=2), signals.silence(2), signals.programme(2, seed=3)]
    sound = np.concatenate([*parts, signals.silence(1.5)])
    sound[40:60] = 0.5
    return sound


@pytest.fixture
def take(client, job, work_off):
    source = upload(client, job, "take.wav", wav(_sound())).json["source"]
    work_off()
    return source


def _save(client, take, *steps):
    return client.post(f"/sources/{take}/prepare", data={"steps": json.dumps(steps)}, headers=JSON)


def _rows(client, take):
    answer = client.get(f"/sources/{take}/prepare/rows?width=800")
    assert answer.status_code == 200
    return answer.text


def test_every_step_that_may_be_asked_for_has_its_sentence_and_can_be_added(client, take):
    """All keys of a step can be changed in its sentence, or under it, but for those that a spec alone has."""
    assert set(SENTENCES) == set(NAMES) == set(STEPS) - set(OF_SPECS)
    for do in NAMES:
        step = first_of(do)
        keys = set(re.findall(r"\{(\w+)\}", " ".join(SENTENCES[do])))
        assert keys <= set(type(step).model_fields)
        left = set(type(step).model_fields) - keys - {"do"}
        assert left <= {"centre_db", "surround_db", "height_db", "lfe_db", "mono_law", "matrixed"}, do
        assert sentence_of(step)
        assert client.post(f"/sources/{take}/prepare/add", data={"do": do}, headers=JSON).status_code == 200
    page = _rows(client, take)
    assert page.count('<section class="step') == len(NAMES)


def test_steps_are_kept_off_ones_too_and_what_is_on_is_done(client, take, work_off):
    steps = [{"do": "trim", "below_db": -50}, {"do": "silence", "head_s": 0.5, "off": True}, {"do": "gain", "db": -3}]
    assert _save(client, take, *steps).json == {"steps": 3}
    source = find_source(take)
    assert [(step.do, is_off) for step, is_off in steps_with_off(source)] == [
        ("trim", False), ("silence", True), ("gain", False)
    ]  # fmt: skip
    assert [step.do for step in contents_of(source).recipe] == ["trim", "gain"]
    work_off()
    assert 'data-pending=""' in _rows(client, take)
    assert _save(client, take).json == {"steps": 0}
    assert find_source(take).recipe_name is None


def test_a_draft_is_drawn_and_not_kept(client, take):
    _save(client, take, {"do": "gain", "db": -3})
    steps = [{"do": "gate", "below_db": -40.0}, {"do": "fade", "in_s": 0.5}]
    answer = client.post(f"/sources/{take}/prepare/draft?width=800", data={"steps": json.dumps(steps)}, headers=JSON)
    assert answer.text.count('<section class="step') == 2
    assert 'data-drag="below_db"' in answer.text
    # Full scale is the top of the strip, -80 dB its bottom: -40 dB lies in the middle.
    assert re.search(r'data-drag="below_db" data-axis="y".*?d="M0 27.0H800"', answer.text, re.DOTALL)
    assert 'data-drag="in_s" data-axis="x"' in answer.text
    assert [step.do for step, _ in steps_with_off(find_source(take))] == ["gain"]
    told = {"steps": json.dumps([{"do": "sweeten"}])}
    assert client.post(f"/sources/{take}/prepare/draft", data=told, headers=JSON).status_code == 422


@pytest.mark.parametrize(
    ("steps", "words"),
    [
        ([{"do": "sweeten"}], "step 1: no such step: sweeten"),
        ([{"do": "dc"}, {"do": "gate", "below_db": 3}], "step 2, below_db: "),
        ([{"do": "gain", "db": None}], "step 1, db: "),
        ([{"do": "dc"}] * 65, "steps: "),
        ("nothing", "The steps are not readable."),
        ([3], "The steps are not readable."),
    ],
)
def test_what_is_wrong_is_said_and_nothing_is_kept(client, take, steps, words):
    answer = client.post(f"/sources/{take}/prepare", data={"steps": json.dumps(steps)}, headers=JSON)
    assert answer.status_code == 422
    assert answer.json["error"]["message"].startswith(words)
    assert find_source(take).recipe_json is None


def test_a_step_that_cannot_be_done_here_says_so_and_the_others_are_drawn(client, take):
    _save(client, take, {"do": "keep", "channels": [3]}, {"do": "silence", "head_s": 1})
    page = _rows(client, take)
    assert "There is no channel 3: it has 2." in page
    assert "+1.0 s" in page


def test_what_is_drawn_at_once_is_near_what_is_heard_then(client, take, store, tmp_path):
    """Guessed from every 10 ms, beside what listening finds: ends of stretches to 10 ms, gains to 1 dB."""
    reading = load_reading(find_source(take).digest, store)
    hops, path = Hops.of(reading), signals.write(tmp_path / "take.wav", _sound())
    steps = recipe_from_json(
        [
            {"do": "trim", "below_db": -50},
            {"do": "pauses", "longer_than_s": 1.0},
            {"do": "gate", "below_db": -45, "hold_ms": 100},
            {"do": "tick"},
            {"do": "dc"},
            {"do": "compress", "above_db": -30, "ratio": 3},
        ]
    )
    found = {step.do: (step.guess(hops), chain_of(path, step).done[0].found) for step in steps}
    guess, heard = found["trim"]
    assert abs(guess.first - heard.first) <= 480
    assert abs(guess.last - heard.last) <= 480
    guess, heard = found["pauses"]
    assert np.abs(np.array(guess.stretches) - np.array(heard.stretches)).max() <= 480
    guess, heard = found["gate"]
    ends = [np.array([each.stretches[0][0], each.stretches[-1][1]]) for each in (guess, heard)]
    assert np.abs(ends[0] - ends[1]).max() <= 960
    assert all(each.peak is not None for each in found["tick"])
    assert np.allclose(found["dc"][0].means, found["dc"][1].means, atol=1e-6)
    guess, heard = found["compress"]
    assert guess.span_db[0] == pytest.approx(heard.span_db[0], abs=1.5)


def test_all_that_is_heard_has_the_length_of_what_is_prepared(client, take, work_off):
    """Window by window: as it came with the edits alone, after the gain, prepared."""
    _save(client, take, {"do": "gain", "db": -6}, {"do": "pauses", "longer_than_s": 1, "keep_s": 0.2})
    work_off()
    page = _rows(client, take)
    seconds = re.findall(r'data-seconds="([\d.]+)"', page)
    assert len(seconds) == 3
    assert len(set(seconds)) == 1
    came, after, prepared = (
        np.frombuffer(client.get(f"/hear/step-{take}-{number}/{RATE}/1").data, "<f4") for number in range(3)
    )
    half = 10 ** (-6 / 20)
    assert np.abs(after - half * came).max() < 1e-6
    assert np.abs(prepared - after).max() < 1e-6
    assert client.get(f"/hear/step-{take + 1}-0/{RATE}/0", headers=JSON).status_code == 404


def test_order_that_harms_is_said_on_the_later_step_counting_those_that_are_off(client, take):
    _save(client, take, {"do": "dc", "off": True}, {"do": "fade", "out_s": 1}, {"do": "trim"})
    page = _rows(client, take)
    assert "Step 3 after step 2: the fade comes before the trim" in page
    assert "no step harms another" not in page


def test_a_level_goes_on_along_the_time_of_the_source_past_what_was_put_in(client, take):
    """Two seconds in front and one behind have no time of the source: they lie where that begins and ends."""
    _save(client, take, {"do": "silence", "head_s": 2, "tail_s": 1}, {"do": "gate", "below_db": -40.0})
    (path,) = re.findall(r'<path d="M([^"]+)Z" class="level"', _rows(client, take))
    xs = [float(point.split()[0]) for point in path.split("L")]
    assert xs == sorted(xs)
    assert (xs[0], xs[-1]) == (0.0, 800.0)
    _save(
        client,
        take,
        {"do": "silence", "head_s": 2},
        {"do": "length", "seconds": 4},
        {"do": "gate", "below_db": -40.0},
    )
    (path,) = re.findall(r'<path d="M([^"]+)Z" class="level"', _rows(client, take))
    xs = [float(point.split()[0]) for point in path.split("L")]
    assert xs == sorted(xs)
    assert xs[-1] == pytest.approx(800.0 * 2 / (len(_sound()) / RATE), abs=1.0)


def test_there_is_no_screen_before_a_source_is_measured(client, job):
    source = upload(client, job, "take.wav", wav(signals.noise(1))).json["source"]
    assert client.get(f"/sources/{source}/prepare").status_code == 404


def test_recipes_are_shown_and_downloaded(client):
    page = client.get("/recipes/").text
    assert "Shorten pauses of 1.2 s and more to 0.2 s, everywhere." in page
    assert "its dynamics are its makers" in page
    assert client.get("/recipes/clean-head.toml").text.startswith("[recipe]")
    assert client.get("/recipes/clean-tail.toml").status_code == 404


def test_parts_of_a_sum_are_prepared_with_their_leader(client, job, work_off):
    stems = [0.3 * signals.programme(3, seed=seed) for seed in (7, 8)]
    leader, *parts = [
        upload(client, job, name, wav(sound)).json["source"]
        for name, sound in (("song.wav", sum(stems)), ("song_a.wav", stems[0]), ("song_b.wav", stems[1]))
    ]
    work_off()
    assert find_source(parts[0]).leader_id == leader
    assert client.get(f"/sources/{parts[0]}/prepare").headers["Location"].endswith(f"/sources/{leader}/prepare")
    answer = client.post(f"/jobs/{job.id}/prepare", data={"source": parts, "recipe": "clean-head"}, headers=JSON)
    assert answer.json == {"prepared": 1}
    assert find_source(leader).recipe_name == "Clean head"
    assert find_source(parts[0]).recipe_name is None
    assert contents_of(find_source(parts[0])).recipe == contents_of(find_source(leader)).recipe


def test_steps_that_are_brought_back_by_undo_are_done(client, job, take, work_off):
    """Even those that nobody had come to before they were changed."""
    _save(client, take, {"do": "trim", "below_db": -50})
    _save(client, take, {"do": "trim", "below_db": -40})
    work_off()
    assert client.post(f"/jobs/{job.id}/undo", headers=JSON).json["undone"]
    work_off()
    assert 'data-pending=""' in _rows(client, take)


def test_a_recipe_without_steps_is_a_wish_of_limiters(client, job, take, work_off):
    """It stays while steps are added and taken out, and goes with the recipe."""
    client.post(f"/jobs/{job.id}/prepare", data={"source": take, "recipe": "louder-softly"}, headers=JSON)
    assert (find_source(take).recipe_name, find_source(take).soft_db) == ("Louder, softly", 3.0)
    assert "begins 3 dB under its ceiling" in client.get(f"/jobs/{job.id}").text
    _save(client, take, {"do": "dc"})
    _save(client, take)
    assert (find_source(take).recipe_name, find_source(take).soft_db) == ("Louder, softly", 3.0)
    client.post(f"/jobs/{job.id}/prepare", data={"source": take, "recipe": ""}, headers=JSON)
    assert (find_source(take).recipe_name, find_source(take).soft_db) == (None, 0.0)
    client.post(f"/jobs/{job.id}/undo", headers=JSON)
    assert find_source(take).soft_db == 3.0
