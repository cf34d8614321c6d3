"""The Channels view by Flask's own client: drawn, kept, taken apart; what is wrong has its sentence."""

import json
import re

import numpy as np
import pytest
import soundfile

from nicelevel.core.programmes import join
from nicelevel.desk.contents import contents_of, recipe_of
from nicelevel.store.sets import link_set
from nicelevel.store.sources import find_source, sources_of
from tests import signals

from .uploading import JSON, upload, wav


@pytest.fixture
def take(client, job, work_off):
    """5.1 of six seconds."""
    source = upload(client, job, "storm.wav", wav(signals.programme(6, channels=6, seed=2))).json["source"]
    work_off()
    return source


@pytest.fixture
def three(client, job, work_off, tmp_path):
    """One file with three programmes."""
    sounds = (
        signals.programme(3, channels=6, seed=1),
        signals.programme(3, seed=2),
        signals.programme(3, channels=1),
    )
    paths = [signals.write(tmp_path / f"{number}.wav", each) for number, each in enumerate(sounds)]
    whole = join(paths, tmp_path / "all.wav", ["Full mix", "For two", "Voice"]).path
    source = upload(client, job, "all.wav", whole.read_bytes()).json["source"]
    work_off()
    return source, paths


def _crossing(page):
    return json.loads(re.search(r'data-crossing="(.*?)"', page)[1].replace("&#34;", '"'))


def _draft(client, source, rows, layout):
    told = json.dumps({"rows": rows, "layout": layout})
    return client.post(f"/sources/{source}/channels/draft?width=680", data={"crossing": told}, headers=JSON)


def _keep(client, source, rows, layout):
    told = json.dumps({"rows": rows, "layout": layout})
    return client.post(f"/sources/{source}/channels", data={"crossing": told}, headers=JSON)


HALF = 0.7071067811865476
FOLD = [[1, 0, HALF, 0, HALF, 0], [0, 1, HALF, 0, 0, HALF]]


def test_the_page_shows_what_comes_in_and_the_usual_ways(client, take):
    page = client.get(f"/sources/{take}/channels").text
    for name in ("Stereo: by ITU-R BS.775", "One: by ITU-R BS.775", "As it came", "Low effects", "Left surround"):
        assert name in page
    assert np.array_equal(_crossing(page)["rows"], np.eye(6))
    assert page.count('class="crossing') == 37  # the drawing itself and 36 in it
    assert "So it is." in page
    assert client.get(f"/sources/{take}/channels/alone").json["levels"][0].startswith("−")


def test_a_draft_is_drawn_and_said_and_changes_nothing(client, take):
    page = _draft(client, take, FOLD, "stereo").text
    assert "Have it so" in page
    assert "Centre and surrounds go in 3 dB down." in page
    assert "Low effects are left out." in page
    assert "becomes about" in page
    assert recipe_of(find_source(take)) == ()


def test_what_is_kept_stands_before_other_steps_and_has_its_name(client, take, work_off):
    client.post(f"/sources/{take}/prepare", data={"steps": '[{"do": "dc"}]'}, headers=JSON)
    assert _keep(client, take, FOLD, "stereo").status_code == 200
    assert [step.do for step in recipe_of(find_source(take))] == ["fold", "dc"]
    turned = [[1, 0, HALF, 0, -HALF, 0], FOLD[1]]
    assert _keep(client, take, turned, "stereo").status_code == 200
    assert [step.do for step in recipe_of(find_source(take))] == ["mix", "dc"]
    assert recipe_of(find_source(take))[0].rows[0][4] == -HALF
    assert "It is being measured with all its steps." in client.get(f"/sources/{take}/channels").text
    work_off()
    assert re.search(r"With all its steps it has −\d", client.get(f"/sources/{take}/channels").text)
    assert _keep(client, take, np.eye(6).tolist(), "5.1").status_code == 200
    assert [step.do for step in recipe_of(find_source(take))] == ["dc"]


def test_others_with_the_same_channels_get_the_same_by_one_change(client, job, take, work_off):
    other = upload(client, job, "other.wav", wav(signals.programme(3, channels=6, seed=5))).json["source"]
    pair = upload(client, job, "pair.wav", wav(signals.programme(3, seed=6))).json["source"]
    work_off()
    page = client.get(f"/sources/{take}/channels").text
    assert f'name="with" value="{other}"' in page
    assert f'name="with" value="{pair}"' not in page
    told = {"crossing": json.dumps({"rows": FOLD, "layout": "stereo"}), "with": [other, pair]}
    assert client.post(f"/sources/{take}/channels", data=told, headers=JSON).json["kept"] == 2
    steps = [[step.do for step in recipe_of(find_source(each))] for each in (take, other, pair)]
    assert steps == [["fold"], ["fold"], []]
    client.post(f"/jobs/{job.id}/undo", headers=JSON)
    assert [recipe_of(find_source(each)) for each in (take, other)] == [(), ()]
    client.post(f"/sources/{take}/channels", data={**told, "one_gain": "1"}, headers=JSON)
    leaders = [find_source(each).leader_id or each for each in (take, other, pair)]
    assert leaders[0] == leaders[1] != leaders[2]
    assert find_source(leaders[0]).set_kind == "album"
    client.post(f"/jobs/{job.id}/undo", headers=JSON)
    assert [find_source(each).leader_id for each in (take, other)] == [None, None]


def test_the_level_of_a_draft_is_that_of_the_sum(client, job, work_off):
    """Two equal sides at −1 dBFS as a plain sum: 6.02 dB more (20 log 2), over full scale and said so."""
    wave = 10 ** (-1 / 20) * np.sin(2 * np.pi * 1_000 * np.arange(4 * 48_000) / 48_000)
    source = upload(client, job, "tone.wav", wav(np.stack([wave, wave], axis=1))).json["source"]
    work_off()

    def sentence(rows, layout="mono"):
        asked = {"crossing": json.dumps({"rows": rows, "layout": layout})}
        return client.get(f"/sources/{source}/channels/level", query_string=asked, headers=JSON).json["sentence"]

    assert "reaches +5.0 dBTP: over full scale" in sentence([[1, 1]])
    assert sentence([[0.5, 0.5]]).endswith("reaches −1.0 dBTP.")


@pytest.mark.parametrize(
    "told",
    [
        "",
        "{}",
        '{"rows": [[1, 0]], "layout": "mono"}',
        '{"rows": [[1, 0, 0, 0, 0, 0]], "layout": "stereo"}',
        '{"rows": [[NaN, 0, 0, 0, 0, 0]], "layout": "mono"}',
        '{"rows": [[1e400, 0, 0, 0, 0, 0]], "layout": "mono"}',
        '{"rows": [["a", 0, 0, 0, 0, 0]], "layout": "mono"}',
        '{"rows": 7, "layout": "mono"}',
        '{"rows": [[1, 0, 0, 0, 0, 0]], "layout": "quad"}',
        "[1]",
    ],
)
def test_what_is_no_way_between_channels_has_its_sentence(client, take, told):
    for address in (f"/sources/{take}/channels", f"/sources/{take}/channels/draft"):
        answer = client.post(address, data={"crossing": told}, headers=JSON)
        assert answer.status_code == 422, told
        assert answer.json["error"]["message"].endswith(".")
    assert recipe_of(find_source(take)) == ()


def test_programmes_become_sources_of_the_same_audio(client, job, three, work_off):
    """Each measured as its own file, none of it copied; one undo brings the file back."""
    source, paths = three
    page = client.get(f"/sources/{source}/channels").text
    assert "Programmes in one file" in page
    assert 'value="1-6 Full mix, 7-8 For two, 9 Voice"' in page
    told = {"map": "1-6 Full mix, 7-8 For two, 9 Voice"}
    answer = client.post(f"/sources/{source}/channels/apart", data=told, headers=JSON)
    assert answer.json["made"] == 3
    work_off()
    parts = sources_of(job.id)
    assert [each.title for each in parts] == ["all Full mix", "all For two", "all Voice"]
    assert {each.digest for each in parts} == {find_source(source).digest}
    for part, path, layout in zip(parts, paths, ("5.1", "stereo", "mono"), strict=True):
        assert contents_of(part).recipe
        reading = client.get(f"/sources/{part.id}/channels").text
        assert "So it is." in reading
        expected, _ = soundfile.read(path, always_2d=True)
        assert layout in client.get(f"/sources/{part.id}/prepare/rows?width=800").text or expected.shape[1] == 1
    client.post(f"/jobs/{job.id}/undo", headers=JSON)
    assert [each.id for each in sources_of(job.id)] == [source]


def test_a_map_says_otherwise_and_each_channel_may_stand_alone(client, job, three, work_off):
    source, _ = three
    answer = client.post(f"/sources/{source}/channels/apart", data={"map": "7 Left, 8 Right"}, headers=JSON)
    assert answer.json["made"] == 2
    work_off()
    assert [each.title for each in sources_of(job.id)] == ["all Left", "all Right"]
    client.post(f"/jobs/{job.id}/undo", headers=JSON)
    assert client.post(f"/sources/{source}/channels/apart", data={"each": "1"}, headers=JSON).json["made"] == 9
    work_off()
    assert {each.state for each in sources_of(job.id)} == {"measured"}


@pytest.mark.parametrize(
    ("told", "sentence"),
    [
        ("1-12 Full mix", "There is no channel 12: it has 9."),
        ("mix", "has no channels at its beginning"),
        ("", "A map"),
    ],
)
def test_a_map_that_does_not_fit_has_its_sentence(client, job, three, told, sentence):
    answer = client.post(f"/sources/{three[0]}/channels/apart", data={"map": told}, headers=JSON)
    assert answer.status_code == 422
    assert sentence in answer.json["error"]["message"]
    assert len(sources_of(job.id)) == 1


def test_what_would_be_lost_is_not_taken_apart(client, job, three, work_off):
    source, _ = three
    client.post(f"/sources/{source}/prepare", data={"steps": '[{"do": "dc"}]'}, headers=JSON)
    answer = client.post(f"/sources/{source}/channels/apart", data={"each": "1"}, headers=JSON)
    assert "has steps of its own: they would be lost" in answer.json["error"]["message"]
    client.post(f"/sources/{source}/prepare", data={"steps": "[]"}, headers=JSON)
    other = upload(client, job, "other.wav", wav(signals.programme(3, seed=9))).json["source"]
    work_off()
    link_set(find_source(source), [find_source(other)], "album")
    answer = client.post(f"/sources/{source}/channels/apart", data={"each": "1"}, headers=JSON)
    assert "is in a set: end that first" in answer.json["error"]["message"]


def test_any_count_of_channels_is_drawn(client, job, work_off):
    for count in (1, 2, 3, 5, 12, 32):
        data = wav(signals.noise(0.3, channels=count, seed=count))
        source = upload(client, job, f"{count}.wav", data).json["source"]
        work_off()
        page = client.get(f"/sources/{source}/channels")
        assert page.status_code == 200
        assert page.text.count("data-alone=") == count + 1


def test_what_is_not_measured_has_no_such_page(client, job):
    source = upload(client, job, "a.wav", wav(signals.programme(1))).json["source"]
    assert client.get(f"/sources/{source}/channels").status_code == 404
    assert client.get("/sources/999/channels").status_code == 404


def _heard(client, source, which, rows, layout, second=1):
    stamp = json.dumps({"rows": rows, "layout": layout})
    answer = client.get(f"/sources/{source}/channels/hear/{which}/48000/{second}", query_string={"s": stamp})
    assert answer.status_code == 200
    return np.frombuffer(answer.data, "<f4").reshape(-1, 2)


def test_before_after_and_what_is_lost_are_heard_of_shares_that_are_not_kept(client, job, work_off):
    """Against sums by numpy; one channel is played by both sides."""
    both = signals.programme(4, seed=9)
    source = upload(client, job, "pair.wav", wav(both)).json["source"]
    work_off()
    second, half = both[48_000:96_000], [[0.5, 0.5]]
    assert np.allclose(_heard(client, source, "before", half, "mono"), second, atol=1e-6)
    middle = np.repeat(second.mean(axis=1, keepdims=True), 2, axis=1)
    assert np.allclose(_heard(client, source, "after", half, "mono"), middle, atol=1e-6)
    assert np.allclose(_heard(client, source, "lost", half, "mono"), second - middle, atol=1e-6)
    as_it_is = [[1, 0], [0, 1]]
    assert not _heard(client, source, "lost", as_it_is, "stereo").any()
    assert client.get(f"/sources/{source}/channels/hear/all/48000/0?s={{}}").status_code == 404
    assert client.get(f"/sources/{source}/channels/hear/after/48000/0?s=[]", headers=JSON).status_code == 422


def test_of_a_fold_down_the_low_effects_are_what_is_lost(client, take):
    surround = signals.programme(6, channels=6, seed=2)[48_000:96_000]
    lost = _heard(client, take, "lost", FOLD, "stereo")
    assert np.allclose(lost, np.repeat(HALF * surround[:, 3:4], 2, axis=1), atol=1e-6)
    sheet = client.get(f"/sources/{take}/channels").text
    assert sheet.count("data-take=") == 3
    assert "What is lost" in sheet


def test_dialogue_and_the_rest_are_held_against_the_mix_where_they_are_called_so(
    client, job, work_off, tmp_path, three
):
    voice, rest = 0.3 * signals.programme(3, channels=1, seed=1), 0.3 * signals.programme(3, channels=6, seed=2)
    mix = rest.copy()
    mix[:, 2] += voice[:, 0]
    paths = [signals.write(tmp_path / f"s{n}.wav", each) for n, each in enumerate((mix, voice, rest))]
    whole = join(paths, tmp_path / "sum.wav", ["Full mix", "Dialogue", "Music and effects"]).path
    source = upload(client, job, "sum.wav", whole.read_bytes()).json["source"]
    work_off()
    found = client.get(f"/sources/{source}/channels/sum").json
    assert found["adds_up"]
    assert found["sentence"].startswith("Dialogue and Music and effects add up to Full mix but for −1")
    assert client.get(f"/sources/{three[0]}/channels/sum").json == {"sentence": "", "adds_up": True}
