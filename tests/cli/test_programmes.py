"""Joining, splitting and measuring by programme on the command line."""

import hashlib
import json

import pytest

from tests import signals


@pytest.fixture
def files(tmp_path):
    mix = signals.write(tmp_path / "mix.wav", signals.programme(3, channels=6, seed=1))
    return mix, signals.write(tmp_path / "pair.wav", signals.programme(2, seed=2))


def test_join_answers_as_the_contract_has_it(run, files, tmp_path):
    done = run("join", *files, "--out", tmp_path / "joined.wav", "--label", "Full mix", "--json")
    answer = json.loads(done.stdout)
    assert done.exit_code == 0
    assert answer["sha256"] == hashlib.sha256((tmp_path / "joined.wav").read_bytes()).hexdigest()
    assert {key: answer[key] for key in ("path", "frames", "sample_rate", "encoding")} == {
        "path": str(tmp_path / "joined.wav"),
        "frames": 3 * 48_000,
        "sample_rate": 48_000,
        "encoding": "pcm_24",
    }
    assert answer["programmes"] == [
        {"label": "Full mix", "layout": "5.1", "channels": [1, 2, 3, 4, 5, 6], "from": str(files[0])},
        {"label": "pair", "layout": "stereo", "channels": [7, 8], "from": str(files[1])},
    ]
    assert answer["notes"] == ["pair.wav is shorter than the longest: 1.000 s of silence were added at its end."]


def test_split_answers_with_each_file_and_its_checksum(run, files, tmp_path):
    run("join", *files, "--out", tmp_path / "joined.wav")
    done = run("split", tmp_path / "joined.wav", "--out", tmp_path / "parts", "--json")
    answer = json.loads(done.stdout)
    assert [(each["label"], each["channels"]) for each in answer["programmes"]] == [
        ("mix", [1, 2, 3, 4, 5, 6]),
        ("pair", [7, 8]),
    ]
    for each in answer["programmes"]:
        written = (tmp_path / "parts" / f"{each['label']}.wav").read_bytes()
        assert each["path"] == str(tmp_path / "parts" / f"{each['label']}.wav")
        assert each["sha256"] == hashlib.sha256(written).hexdigest()
    again = run("split", tmp_path / "joined.wav", "--out", tmp_path / "parts", "--json")
    assert again.exit_code == 1
    assert json.loads(again.stdout)["error"]["code"] == "output_exists"


def test_measure_gives_each_programme_its_figures(run, files, tmp_path):
    run("join", *files, "--out", tmp_path / "joined.wav")
    answer = json.loads(run("measure", tmp_path / "joined.wav", "--programmes", "--json").stdout)
    alone = json.loads(run("measure", files[0], "--json").stdout)
    first, second = answer["programmes"]
    assert (first["label"], first["channels"], first["layout"]) == ("mix", [1, 2, 3, 4, 5, 6], "5.1")
    assert first["integrated_lufs"] == pytest.approx(alone["integrated_lufs"], abs=1e-9)
    assert second["true_peak_per_channel_dbtp"] != first["true_peak_per_channel_dbtp"][:2]
    table = run("measure", tmp_path / "joined.wav", "--programmes").stdout
    assert "  mix" in table
    assert "  pair" in table


def test_a_file_at_fault_is_named(run, files, tmp_path):
    slower = signals.write(tmp_path / "slower.wav", signals.noise(1, rate=44_100), rate=44_100)
    done = run("join", files[0], slower, "--out", tmp_path / "joined.wav", "--json")
    assert done.exit_code == 1
    answer = json.loads(done.stdout)
    assert answer["path"] == str(slower)
    assert answer["error"]["code"] == "unsupported"
    assert not (tmp_path / "joined.wav").exists()


@pytest.mark.parametrize(
    ("arguments", "words"),
    [
        (("join", "a.wav"), "Missing option '--out'"),
        (("join", "a.wav", "--out", "b.wav", "--label", "A", "--label", "B"), "There are 2 labels for 1 files."),
        (("join", "a.wav", "--out", "nowhere/b.wav"), "There is no folder nowhere."),
        (("split", "a.wav", "--out", "parts", "--map", "6-1 Mix"), "the lower number first: 6-1 Mix."),
        (("measure", "a.wav", "--programmes", "--recipe", "clean-head"), "--programmes goes without --recipe."),
    ],
)
def test_wrong_usage_is_one_line_and_status_2(run, tmp_path, monkeypatch, arguments, words):
    monkeypatch.chdir(tmp_path)
    done = run(*arguments)
    assert done.exit_code == 2
    assert words in done.stderr
    assert done.stderr.count("\n") == 1


def test_a_contribution_says_its_start_and_what_each_programme_measures(run, files, tmp_path):
    start = ("--start", "10:00:00;02", "--frame-rate", "29.97 drop", "--guard-s", "1")
    done = run("join", *files, "--out", tmp_path / "c.wav", "--label", "Full mix", *start, "--json")
    answer = json.loads(done.stdout)
    assert done.exit_code == 0
    assert (answer["configuration"], answer["start"], answer["frame_rate"]) == ("5.1+2", "10:00:00;02", "29.97 drop")
    assert answer["guard_frames"] == 48_048  # thirty pictures of 29.97
    assert [each["label"] for each in answer["programmes"]] == ["Full mix", "pair"]
    assert answer["programmes"][0]["stated"]["integrated_lufs"] < 0.0
    for wrong, sentence in (
        (("--start", "x"), "10:00:00:00"),
        (("--start", "10:00:00:00", "--frame-rate", "7"), "7"),
    ):
        failed = run("join", *files, "--out", tmp_path / "d.wav", *wrong, "--json")
        assert failed.exit_code == 1
        assert sentence in json.loads(failed.stdout)["error"]["message"]
    assert not (tmp_path / "d.wav").exists()
