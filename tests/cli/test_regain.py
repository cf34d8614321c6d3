"""The level of MP3s without re-encoding, on the command line."""

import hashlib
import json

import numpy as np
import pytest

from nicelevel.core.channels import layout_from_count
from nicelevel.core.files import open_sink
from nicelevel.core.values import OutputFormat
from tests import signals


@pytest.fixture
def mp3(tmp_path):
    path = tmp_path / "Bulletin.mp3"
    output = OutputFormat("mp3", "mp3", 44_100, layout_from_count(1), "none", 64.0)
    sink = open_sink(path, output, 3 * 44_100)
    sink.write(signals.programme(3, rate=44_100, channels=1).astype(np.float32))
    sink.close()
    return path


def test_it_answers_as_the_contract_has_it(run, mp3, tmp_path):
    done = run("regain", mp3, "--db", "-4", "--out", tmp_path / "out", "--json")
    answer = json.loads(done.stdout)
    assert done.exit_code == 0
    assert answer["path"] == str(mp3)
    output = answer["output"]
    assert output["path"] == str(tmp_path / "out" / "Bulletin.mp3")
    assert output["sha256"] == hashlib.sha256((tmp_path / "out" / "Bulletin.mp3").read_bytes()).hexdigest()
    assert (output["steps"], output["asked_db"], output["before"], output["after"]) == (-3, -4.0, None, None)
    assert output["gain_db"] == pytest.approx(-3 * 1.50515, abs=1e-5)
    assert output["error_db"] == pytest.approx(output["gain_db"] + 4.0)
    again = run("regain", tmp_path / "out" / "Bulletin.mp3", "--undo", "--out", tmp_path / "back", "--json")
    assert json.loads(again.stdout)["output"]["steps"] == 3
    assert (tmp_path / "back" / "Bulletin.mp3").read_bytes() == mp3.read_bytes()


def test_a_level_is_told_before_and_after(run, mp3, tmp_path):
    done = run("regain", mp3, "--target", "-23", "--max-true-peak", "-1", "--out", tmp_path / "out", "--json")
    output = json.loads(done.stdout)["output"]
    assert output["after"]["integrated_lufs"] == pytest.approx(-23.0, abs=0.8)
    assert output["after"]["true_peak_dbtp"] <= -1.0
    assert output["before"]["encoding"] == "mp3"
    assert "steps" in run("regain", mp3, "--target", "-30", "--out", tmp_path / "two").stdout


def test_a_bad_one_stops_no_other_and_wrong_usage_is_said(run, mp3, tmp_path):
    text = tmp_path / "x.mp3"
    text.write_text("no audio")
    done = run("regain", text, mp3, "--db", "-4", "--out", tmp_path / "out", "--json")
    one, other = map(json.loads, done.stdout.splitlines())
    assert done.exit_code == 1
    assert one["error"]["code"] == "not_audio"
    assert other["output"]["steps"] == -3
    far = run("regain", mp3, "--db", "300", "--out", tmp_path / "far", "--json")
    assert json.loads(far.stdout)["error"]["code"] == "cannot_meet"
    assert run("regain", mp3, "--out", tmp_path / "out").exit_code == 2
    assert run("regain", mp3, "--db", "1", "--undo", "--out", tmp_path / "out").exit_code == 2
