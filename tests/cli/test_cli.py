"""The command line: its contract, run as a program runs it."""

import json
import subprocess
import sys

import pytest
import soundfile

from nicelevel.core.specs import shipped_specs
from tests import signals


@pytest.fixture
def mix(tmp_path):
    return signals.write(tmp_path / "mix.wav", signals.both(signals.sine(1000, -30, 4)))


def _lines(result):
    return [json.loads(line) for line in result.stdout.splitlines()]


def test_measure_prints_one_line_for_each_input_in_order(run, mix, tmp_path):
    (tmp_path / "notes.wav").write_text("no audio")
    result = run("measure", mix, tmp_path / "notes.wav", tmp_path / "gone.wav", mix, "--json")
    answers = _lines(result)
    assert result.exit_code == 1
    assert [answer["path"] for answer in answers] == [
        str(mix), str(tmp_path / "notes.wav"), str(tmp_path / "gone.wav"), str(mix)
    ]  # fmt: skip
    assert [answer.get("error", {}).get("code") for answer in answers] == [None, "not_audio", "not_found", None]
    assert answers[0]["integrated_lufs"] == pytest.approx(-30.0, abs=0.01)
    assert "series" not in answers[0]


def test_measure_all_well_is_0_and_gives_a_table(run, mix):
    result = run("measure", mix)
    assert result.exit_code == 0
    assert "−30.0" in result.stdout


def test_series_comes_when_asked_for(run, mix):
    (answer,) = _lines(run("measure", mix, "--json", "--series", "--jobs", 1))
    assert len(answer["series"]["momentary"]) == 40


def test_check_judges_and_a_miss_is_status_1(run, mix):
    missed = run("check", mix, "--spec", "european-broadcast", "--json")
    assert missed.exit_code == 1
    assert _lines(missed)[0]["verdict"] == "misses"
    assert {finding["rule"] for finding in _lines(missed)[0]["findings"]} == {
        "integrated", "max_true_peak_dbtp", "format"
    }  # fmt: skip
    assert run("check", mix, "--spec", "full-resolution").exit_code == 0


def test_plan_says_what_render_would_do(run, mix, tmp_path):
    result = run("plan", mix, "--spec", "podcast", "--json")
    (answer,) = _lines(result)
    assert result.exit_code == 0
    assert answer["action"] == "gain"
    assert answer["gain_db"] == pytest.approx(14.0, abs=0.01)
    assert answer["limiting_db"] == 0.0
    assert [path.name for path in tmp_path.iterdir()] == ["mix.wav"]
    assert "gain" in run("plan", mix, "--spec", "podcast").stdout


def test_silence_cannot_meet_without_being_an_error(run, tmp_path):
    path = signals.write(tmp_path / "silent.wav", signals.silence(2))
    result = run("plan", path, "--spec", "podcast", "--json")
    assert result.exit_code == 0
    assert _lines(result)[0]["action"] == "cannot_meet"


def test_render_writes_proves_and_says_so(run, mix, tmp_path):
    feed = tmp_path / "feed.toml"
    feed.write_text(
        '[spec]\nname = "Feed"\n[loudness]\ntarget = -16.0\ntolerance = 1.0\n[limits]\nmax_true_peak_dbtp = -1.0\n'
        '[[formats]]\ncontainer = "wav"\nencoding = "pcm_16"\n'
    )
    result = run("render", mix, "--spec", feed, "--out", tmp_path / "out", "--json")
    assert result.exit_code == 0
    (output,) = _lines(result)[0]["outputs"]
    assert output["verdict"] == "meets"
    assert output["measured"]["integrated_lufs"] == pytest.approx(-16.0, abs=0.01)
    assert output["predicted"]["integrated_lufs"] == pytest.approx(-16.0, abs=0.01)
    assert len(output["sha256"]) == 64
    assert soundfile.info(output["path"]).subtype == "PCM_16"
    again = run("render", mix, "--spec", feed, "--out", tmp_path / "out", "--json")
    assert again.exit_code == 1
    assert _lines(again)[0]["error"]["code"] == "output_exists"
    assert run("render", mix, "--spec", feed, "--out", tmp_path / "out", "--replace").exit_code == 0


def test_two_inputs_of_one_name_do_not_write_over_each_other(run, mix, tmp_path):
    (tmp_path / "other").mkdir()
    twin = signals.write(tmp_path / "other" / "mix.wav", signals.noise(2))
    answers = _lines(run("render", mix, twin, "--spec", "podcast", "--out", tmp_path / "out", "--json"))
    assert "outputs" in answers[0]
    assert answers[1]["error"]["code"] == "output_exists"


def test_an_input_is_never_written_over(run, tmp_path):
    spec = tmp_path / "in_place.toml"
    spec.write_text('[spec]\nname="x"\n[output]\nname="{title}"\n[[formats]]\ncontainer="wav"\n')
    mix = signals.write(tmp_path / "mix.wav", signals.noise(1))
    before = mix.read_bytes()
    result = run("render", mix, "--spec", spec, "--out", tmp_path, "--replace", "--json")
    assert _lines(result)[0]["error"]["code"] == "output_exists"
    assert mix.read_bytes() == before


def test_cannot_meet_is_an_error_of_that_file_in_render(run, mix, tmp_path):
    signal = 0.01 * signals.noise(3)
    signal[1000] = 0.9
    peaky = signals.write(tmp_path / "peaky.wav", signal)
    result = run("render", peaky, mix, "--spec", "podcast", "--out", tmp_path / "out", "--json")
    answers = _lines(result)
    assert result.exit_code == 1
    assert answers[0]["error"]["code"] == "cannot_meet"
    assert answers[1]["outputs"][0]["verdict"] == "meets"


@pytest.mark.parametrize(
    "arguments",
    [
        ("measure",),
        ("measure", "x.wav", "--loud"),
        ("check", "x.wav"),
        ("check", "x.wav", "--spec", "nowhere"),
        ("plan", "x.wav", "--spec", "broken.toml"),
        ("measure", "x.wav", "--jobs", "0"),
    ],
)
def test_wrong_usage_is_status_2(run, tmp_path, monkeypatch, arguments):
    monkeypatch.chdir(tmp_path)
    (tmp_path / "broken.toml").write_text("[loudness]\ntarget = 3")
    result = run(*arguments)
    assert result.exit_code == 2
    assert result.stdout == ""
    assert len(result.stderr.splitlines()) == 1
    assert "Traceback" not in result.stderr


def test_a_broken_spec_is_named_in_one_line(run, tmp_path):
    (tmp_path / "broken.toml").write_text(
        '[spec]\nname="x"\n[loudness]\ntarget=3\ntolerance=1\n[[formats]]\ncontainer="wav"'
    )
    result = run("plan", "x.wav", "--spec", tmp_path / "broken.toml")
    assert result.exit_code == 2
    assert len(result.stderr.splitlines()) == 1
    assert "loudness.target" in result.stderr


def test_an_out_folder_that_is_a_file_ends_the_call_before_work(run, mix, tmp_path):
    result = run("render", mix, "--spec", "podcast", "--out", mix)
    assert result.exit_code == 2


def test_what_cannot_be_written_is_an_error_of_the_file(run, mix, tmp_path):
    spec, wide = tmp_path / "odd.toml", signals.write(tmp_path / "wide.wav", signals.noise(1, channels=6))
    mp3 = '[[formats]]\ncontainer = "mp3"\nencoding = "mp3"\n'
    spec.write_text(f'[spec]\nname = "x"\n{mp3}')
    result = run("render", wide, "--spec", spec, "--out", tmp_path / "out", "--json")
    assert result.exit_code == 1
    error = _lines(result)[0]["error"]
    assert error["code"] == "unsupported"
    assert "holds at most 2 channels" in error["message"]


def test_a_format_that_cannot_be_keeps_no_other_from_being_written(run, tmp_path):
    """Also MP3 of six channels among others: what is left out is said, and the command ends with 1."""
    spec, wide = tmp_path / "many.toml", signals.write(tmp_path / "wide.wav", signals.noise(1, channels=6))
    others = "".join(f'[[formats]]\ncontainer = "{each}"\n' for each in ("mp3", "wav", "flac", "aiff"))
    spec.write_text(f'[spec]\nname = "x"\n{others}')
    result = run("render", wide, "--spec", spec, "--out", tmp_path / "out", "--json")
    outputs = _lines(result)[0]["outputs"]
    assert result.exit_code == 1
    assert [output.get("verdict") for output in outputs] == ["meets", "meets", "meets", None]
    assert outputs[3]["format"] == "MP3"
    assert outputs[3]["error"]["code"] == "unsupported"
    planned = _lines(run("plan", wide, "--spec", spec, "--json"))[0]
    assert len(planned["outputs"]) == 3
    assert any("MP3 is not written" in reason for reason in planned["reasons"])
    shown = run("render", wide, "--spec", spec, "--out", tmp_path / "out", "--replace")
    assert "MP3: MP3 holds at most 2 channels" in shown.stderr


def test_notes_are_sentences_for_people_and_codes_for_programs(run, tmp_path):
    tick = signals.silence(1)
    tick[0] = 0.5
    file = signals.write(tmp_path / "tick.wav", tick + 0.001 * signals.noise(1, -20))
    assert "tick_at_head" in _lines(run("measure", file, "--json"))[0]["notes"]
    shown = run("measure", file).stdout
    assert "tick_at_head" not in shown
    assert "WAV, 24 bit, 48 kHz" in " ".join(shown.split())


def test_a_lossy_deliverable_says_in_how_many_rounds_it_was_made(run, mix, tmp_path):
    spec = tmp_path / "lossy.toml"
    spec.write_text('[spec]\nname = "x"\n[[formats]]\ncontainer = "ogg"\nencoding = "vorbis"\n')
    output = _lines(run("render", mix, "--spec", spec, "--out", tmp_path / "out", "--json"))[0]["outputs"][0]
    assert output["rounds"] >= 1
    assert output["measured"]["encoding"] == "vorbis"
    assert output["metadata"] == {"kept": [], "dropped": []}


LOUD = (
    '[spec]\nname = "Loud"\n[loudness]\ntarget = -13.0\ntolerance = 0.5\n[limits]\nmax_true_peak_dbtp = -1.0\n'
    '[method]\nallow = "limiter"\n[[formats]]\ncontainer = "wav"\nencoding = "float_32"\n'
)


@pytest.fixture
def loud(tmp_path):
    (tmp_path / "loud.toml").write_text(LOUD)
    return tmp_path / "loud.toml"


def test_one_gain_for_the_tracks_of_an_album(run, tmp_path, loud):
    """Of other rates and lengths; each has its own limiter, and the quiet one stays as much quieter."""
    tracks = [
        signals.write(tmp_path / "one.wav", 0.5 * signals.drums(4.0)),
        signals.write(tmp_path / "two.wav", 0.45 * signals.drums(5.0, rate=44_100, seed=5), 44_100),
        signals.write(tmp_path / "three.wav", 0.05 * signals.programme(3, seed=4)),
    ]
    before = [answer["integrated_lufs"] for answer in _lines(run("measure", *tracks, "--json"))]
    arguments = ("--spec", loud, "--common-gain", "--json")
    planned = _lines(run("plan", *tracks, *arguments))
    done = run("render", *tracks, "--out", tmp_path / "out", *arguments)
    outputs = [answer["outputs"][0] for answer in _lines(done)]
    assert done.exit_code == 0
    assert len({answer["gain_db"] for answer in planned} | {output["gain_db"] for output in outputs}) == 1
    assert [answer["action"] for answer in planned] == ["limit", "limit", "gain"]
    assert planned[0]["reasons"] != planned[1]["reasons"]
    after = [output["measured"]["integrated_lufs"] for output in outputs]
    assert after[2] - before[2] == pytest.approx(outputs[2]["gain_db"], abs=0.01)
    alone = _lines(run("plan", tracks[0], "--spec", loud, "--json"))[0]
    assert alone["gain_db"] == planned[0]["gain_db"]


def test_stems_that_add_up_take_the_gain_and_the_curve_of_their_mix(run, tmp_path, loud):
    stems = [0.5 * signals.drums(4.0), 0.2 * signals.programme(4, seed=3)[: 4 * 48_000]]
    files = [signals.write(tmp_path / "song.wav", sum(stems), subtype="FLOAT")]
    files += [
        signals.write(tmp_path / f"song_{name}.wav", stem, subtype="FLOAT")
        for name, stem in zip("ab", stems, strict=True)
    ]
    done = run("render", *files, "--spec", loud, "--common-gain", "--out", tmp_path / "out", "--json", "--jobs", "2")
    outputs = [answer["outputs"][0] for answer in _lines(done)]
    assert done.exit_code == 0
    assert outputs[0]["limiting_db"] > 1.0
    mix, *parts = [soundfile.read(output["path"])[0] for output in outputs]
    assert abs(mix - sum(parts)).max() < 1e-6


def test_files_are_matched_to_an_approved_one(run, tmp_path, loud):
    approved = signals.write(tmp_path / "approved.wav", signals.noise(4, -30))
    other = signals.write(tmp_path / "other.wav", signals.noise(4, -20, seed=2))
    level = _lines(run("measure", approved, "--json"))[0]["integrated_lufs"]
    planned = _lines(run("plan", other, "--match", approved, "--json"))[0]
    assert planned["predicted"]["integrated_lufs"] == pytest.approx(level, abs=0.05)
    by_spec = _lines(run("render", other, "--match", approved, "--spec", loud, "--out", tmp_path / "out", "--json"))[
        0
    ]
    assert by_spec["outputs"][0]["measured"]["encoding"] == "float_32"
    assert by_spec["outputs"][0]["measured"]["integrated_lufs"] == pytest.approx(level, abs=0.05)
    silent = signals.write(tmp_path / "silent.wav", signals.silence(2))
    assert run("plan", other, "--match", silent).exit_code == 2
    assert run("plan", other, "--match", tmp_path / "nothing.wav").exit_code == 2
    assert "--spec" in run("plan", other).stderr


def test_a_shipped_spec_is_printed_as_toml(run, tmp_path, mix):
    (tmp_path / "mine.toml").write_text(run("specs", "podcast").stdout)
    assert _lines(run("check", mix, "--spec", tmp_path / "mine.toml", "--json"))[0]["findings"]
    assert run("specs", "nothing").exit_code == 2


def test_specs_lists_what_ships(run):
    slugs = [answer["slug"] for answer in _lines(run("specs", "--json"))]
    assert slugs == list(shipped_specs())
    assert "European broadcast" in run("specs").stdout


def test_the_installed_command_measures_without_a_database(mix):
    command = [sys.executable, "-m", "nicelevel.cli.main", "measure", str(mix), "--json"]
    result = subprocess.run(command, capture_output=True, text=True, env={"PATH": "/usr/bin:/bin"}, check=True)
    assert json.loads(result.stdout)["channels"] == 2
