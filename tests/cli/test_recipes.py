"""Recipes on the command line."""

import json

import numpy as np
import pytest
import soundfile
from click.testing import CliRunner

from nicelevel.cli.main import main
from tests import signals

RATE_HZ = 48_000
RECIPE = """
[recipe]
name = "Short"

[[steps]]
do = "tick"
[[steps]]
do = "pauses"
longer_than_s = 1.0
keep_s = 0.25
[[steps]]
do = "gate"
below_db = -50
"""
FLOAT = (
    '[spec]\nname = "Float"\n[loudness]\ntarget = -20.0\ntolerance = 0.5\n'
    '[[formats]]\ncontainer = "wav"\nencoding = "float_64"\n'
)


@pytest.fixture
def take(tmp_path):
    sound = np.concatenate([signals.programme(2, seed=2), signals.silence(2), signals.programme(2, seed=3)])
    return signals.write(tmp_path / "take.wav", sound)


@pytest.fixture
def recipe(tmp_path):
    path = tmp_path / "short.toml"
    path.write_text(RECIPE)
    return path


@pytest.fixture
def spec(tmp_path):
    path = tmp_path / "float.toml"
    path.write_text(FLOAT)
    return path


def _one(result):
    (answer,) = [json.loads(line) for line in result.stdout.splitlines()]
    return answer


def test_recipes_are_listed_with_how_many_steps(run):
    answers = [json.loads(line) for line in run("recipes", "--json").stdout.splitlines()]
    assert {"slug": "clean-head", "name": "Clean head", "steps": 2} in answers
    assert "Mend a tick in the first 10 ms." in run("recipes").stdout
    assert 'do = "tick"' in run("recipes", "clean-head").stdout


def test_measure_gives_the_reading_of_what_was_prepared_and_the_file_as_it_is(run, take, recipe):
    plain, answer = _one(run("measure", take, "--json")), _one(run("measure", take, "--recipe", recipe, "--json"))
    assert "steps" not in plain
    assert [answer[key] for key in ("container", "encoding", "size_bytes", "bits_declared")] == [
        plain[key] for key in ("container", "encoding", "size_bytes", "bits_declared")
    ]
    tick, pauses, gate = answer["steps"]
    assert tick == {
        "do": "tick", "text": "There was no tick.", "changed": False, "frames": plain["frames"], "at_s": None
    }  # fmt: skip
    assert pauses["text"] == "Took out 1 pause, 1.8 s."
    assert pauses["frames"] == answer["frames"]
    ((from_s, to_s),) = pauses["taken_out"]
    # A quarter of a second is left of two, and of what is quiet in the sound beside them.
    assert to_s - from_s == pytest.approx(1.75, abs=0.01)
    assert plain["frames"] - answer["frames"] == round((to_s - from_s) * RATE_HZ)
    assert 2.0 < from_s < to_s < 4.0
    assert gate["do"] == "gate"
    assert len(answer["warnings"]) == 0


def test_a_prepared_file_lands_as_it_was_planned(run, take, recipe, spec, tmp_path):
    planned = _one(run("plan", take, "--recipe", recipe, "--spec", spec, "--json"))
    assert [step["do"] for step in planned["steps"]] == ["tick", "pauses", "gate"]
    rendered = _one(run("render", take, "--recipe", recipe, "--spec", spec, "--out", tmp_path / "out", "--json"))
    (output,) = rendered["outputs"]
    assert output["verdict"] == "meets"
    for key, tolerance in (("integrated_lufs", 0.05), ("true_peak_dbtp", 0.1), ("sample_peak_dbfs", 0.1)):
        assert output["measured"][key] == pytest.approx(planned["predicted"][key], abs=tolerance)
    assert output["measured"]["frames"] == planned["steps"][-1]["frames"]
    assert rendered["steps"] == planned["steps"]


def test_the_steps_of_a_spec_come_after_those_of_the_recipe(run, take, recipe, spec, tmp_path):
    spec.write_text(FLOAT + '[[steps]]\ndo = "silence"\nhead_s = 0.5\n')
    answer = _one(run("render", take, "--recipe", recipe, "--spec", spec, "--out", tmp_path / "out", "--json"))
    assert [step["do"] for step in answer["steps"]] == ["tick", "pauses", "gate", "silence"]
    samples = soundfile.read(answer["outputs"][0]["path"])[0]
    assert not samples[: RATE_HZ // 2].any()
    assert len(samples) == answer["steps"][-1]["frames"] == answer["steps"][-2]["frames"] + RATE_HZ // 2


def test_order_that_harms_is_warned_of(run, take, tmp_path):
    path = tmp_path / "harm.toml"
    path.write_text(
        '[recipe]\nname = "Harm"\n[[steps]]\ndo = "fade"\nout_s = 1\n[[steps]]\ndo = "trim"\nbelow_db = -50\n'
    )
    (warning,) = _one(run("measure", take, "--recipe", path, "--json"))["warnings"]
    assert warning.startswith("Step 2 after step 1: the fade comes before the trim")


@pytest.mark.parametrize(
    ("steps", "code"),
    [
        ('do = "keep"\nchannels = [3]', "unsupported"),
        ('do = "high_pass"\nhz = 24000', "unsupported"),
        ('do = "trim"\nbelow_db = 0', "empty"),
        ('do = "cut"\nfrom_s = 100', "empty"),
    ],
)
def test_what_hangs_on_the_file_is_an_error_of_that_file(run, take, tmp_path, steps, code):
    path = tmp_path / "own.toml"
    path.write_text(f'[recipe]\nname = "Own"\n[[steps]]\n{steps}\n')
    for command in (("measure",), ("plan", "--spec", "podcast"), ("render", "--spec", "podcast", "--out", tmp_path)):
        result = run(command[0], take, "--recipe", path, *command[1:], "--json")
        assert result.exit_code == 1
        assert _one(result)["error"]["code"] == code


def test_a_broken_recipe_is_status_2_and_one_line(run, take, tmp_path):
    path = tmp_path / "own.toml"
    path.write_text('[recipe]\nname = "Own"\n[[steps]]\ndo = "sweeten"\n')
    for name in (path, tmp_path / "gone.toml", "clean-tail"):
        result = CliRunner().invoke(main, ["measure", str(take), "--recipe", str(name)])
        assert result.exit_code == 2
        assert len(result.stderr.strip().splitlines()) == 1


def test_stems_with_a_recipe_and_one_gain_add_up(run, tmp_path, spec):
    """What the recipe finds it finds in the mix; the sum of the stems is the mix to -100 dB."""
    one = np.concatenate([signals.silence(1), signals.programme(3, seed=2), signals.silence(1)])
    other = 0.3 * signals.noise(5, level_db=-40.0)
    paths = [
        signals.write(tmp_path / f"{name}.wav", sound, subtype="DOUBLE")
        for name, sound in (("song", one + other), ("song_a", one), ("song_b", other))
    ]
    path = tmp_path / "own.toml"
    path.write_text(
        '[recipe]\nname = "Own"\n[[steps]]\ndo = "trim"\nbelow_db = -45\n[[steps]]\ndo = "gate"\nbelow_db = -40\n'
        '[[steps]]\ndo = "compress"\nabove_db = -30\nratio = 3\n'
    )
    result = run(
        "render", *paths, "--recipe", path, "--spec", spec, "--common-gain", "--out", tmp_path / "o", "--json"
    )
    assert result.exit_code == 0, result.output
    answers = [json.loads(line) for line in result.stdout.splitlines()]
    whole, *parts = [soundfile.read(answer["outputs"][0]["path"])[0] for answer in answers]
    assert 20 * np.log10(np.abs(sum(parts) - whole).max()) < -100.0
