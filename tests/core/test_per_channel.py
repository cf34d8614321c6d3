"""A file per channel: side by side they are the programme, byte by byte at its level."""

import numpy as np
import pytest
import soundfile

from nicelevel.core.errors import SpecError
from nicelevel.core.measure import measure
from nicelevel.core.plan import plans
from nicelevel.core.prepare import Workshop
from nicelevel.core.process import process, targets_of
from nicelevel.core.specs import parse_spec
from tests import signals

RATE = 48_000
SPEC = """
spec.name = "Split"
loudness = {{ target = {target}, tolerance = 0.5 }}
limits = {{ max_true_peak_dbtp = -1.0 }}
method = {{ allow = "limiter" }}
formats = [{{ container = "{container}", encoding = "{encoding}", sample_rate = {rate}, files = "{files}" }}]
"""


def _spec(files="per_channel", target=-16.0, container="wav", encoding="pcm_24", rate=48_000):
    return parse_spec(
        SPEC.format(files=files, target=target, container=container, encoding=encoding, rate=rate), "split"
    )


def _surround(path):
    """Six channels of their own levels; the low one is loud and counts for nothing."""
    seeds = enumerate((0.3, 0.3, 0.5, 0.9, 0.1, 0.1))
    channels = [level * signals.programme(6, seed=number)[:, 0] for number, level in seeds]
    soundfile.write(path, np.stack(channels, axis=1), RATE, "PCM_24", format="WAVEX")
    return path


@pytest.mark.parametrize("target", [-33.0, -14.0], ids=["gain", "limit"])
@pytest.mark.parametrize("rate", [48_000, 44_100])
def test_files_side_by_side_are_the_programme(tmp_path, target, rate):
    path = _surround(tmp_path / "mix.wav")
    (whole,) = process(path, _spec("one", target, encoding="float_64", rate=rate), tmp_path / "one")
    made = process(path, _spec(target=target, encoding="float_64", rate=rate), tmp_path / "split")
    names = [each.path.name.split(".")[1] for each in made]
    assert names == ["L", "R", "C", "LFE", "Ls", "Rs"]
    expected = soundfile.read(whole.path)[0]
    side_by_side = np.stack([soundfile.read(each.path)[0] for each in made], axis=1)
    assert np.array_equal(side_by_side, expected)
    assert measure(whole.path).integrated_lufs == pytest.approx(target, abs=0.05)
    assert all(each.proof.verdict.meets and each.proof.reading.source.layout.name == "mono" for each in made)
    for each in made:
        assert each.plan.predicted.true_peak_dbtp == pytest.approx(each.proof.reading.true_peak_dbtp, abs=0.1)
        assert {finding.rule for finding in each.proof.verdict.findings} == {"max_true_peak_dbtp", "format"}


@pytest.mark.parametrize("dither", ["tpdf", "shaped"])
def test_dithered_files_side_by_side_are_the_programme_too(tmp_path, dither):
    """Each channel has the noise that it would have had in one file: not the same in all of them."""
    path = signals.write(tmp_path / "mix.wav", signals.both(signals.sine(997, -40, 3)), subtype="PCM_24")
    one, split = (_with_dither(_spec(files, -30.0, encoding="pcm_16"), dither) for files in ("one", "per_channel"))
    (whole,) = process(path, one, tmp_path / "one")
    left, right = (soundfile.read(each.path, dtype="int16")[0] for each in process(path, split, tmp_path / "split"))
    assert np.array_equal(np.stack((left, right), axis=1), soundfile.read(whole.path, dtype="int16")[0])
    assert not np.array_equal(left, right)


def _with_dither(spec, dither):
    return spec.model_copy(update={"formats": (spec.formats[0].model_copy(update={"dither": dither}),)})


def test_what_is_not_touched_stays_as_it_is_to_the_last_bit(tmp_path):
    signal = 0.1 * signals.programme(4, seed=1)
    path = signals.write(tmp_path / "mix.wav", signal)
    level = round(measure(path).integrated_lufs, 1)
    left, right = process(path, _spec(target=level), tmp_path / "out")
    assert (left.plan.action, left.plan.dithers) == ("as_is", False)
    codes = soundfile.read(path, dtype="int32")[0]
    assert np.array_equal(soundfile.read(left.path, dtype="int32")[0], codes[:, 0])
    assert np.array_equal(soundfile.read(right.path, dtype="int32")[0], codes[:, 1])


def test_every_output_is_known_from_the_header(tmp_path):
    path = _surround(tmp_path / "mix.wav")
    source = measure(path).source
    names = [target.name for target in targets_of(source, _spec(), tmp_path)]
    assert names == [each.path.name for each in process(path, _spec(), tmp_path / "out")]


def test_a_programme_of_one_channel_is_one_file_with_its_target(tmp_path):
    path = signals.write(tmp_path / "voice.wav", signals.noise(4, -30, channels=1))
    (made,) = process(path, _spec(target=-20.0), tmp_path / "out")
    assert made.path.name == "voice_split.wav"
    assert "integrated" in {finding.rule for finding in made.proof.verdict.findings}


def test_channels_without_a_position_are_numbered(tmp_path):
    audio = 0.1 * np.stack([signals.programme(2, seed=n)[:, 0] for n in range(3)], axis=1)
    soundfile.write(tmp_path / "take.flac", audio, RATE, "PCM_24")
    soundfile.write(tmp_path / "take.wav", audio, RATE, "PCM_24")
    made = process(tmp_path / "take.wav", _spec(target=-30.0), tmp_path / "out")
    assert [each.path.name for each in made] == [f"take_split.{number}.wav" for number in (1, 2, 3)]


@pytest.mark.parametrize(("container", "encoding"), [("mp3", "mp3"), ("m4a", "aac"), ("ogg", "opus"), ("ac3", "ac3")])
def test_a_file_per_channel_is_not_written_with_loss(container, encoding):
    with pytest.raises(SpecError, match="a file per channel is written without loss"):
        _spec(container=container, encoding=encoding)


def test_what_is_shown_is_the_plan_of_the_programme(tmp_path):
    path = _surround(tmp_path / "mix.wav")
    with Workshop(path, True) as workshop:
        spec = _spec(target=-14.0)
        made = plans(workshop.source(), workshop.measured, spec)
        (whole,) = plans(workshop.source(), workshop.measured, _spec("one", -14.0))
    assert all(each.shown.output == whole.output for each in made)
    assert made[0].shown.predicted.integrated_lufs == pytest.approx(-14.0, abs=0.01)
    assert made[0].shown.verdict.meets
    assert whole.shown is whole
    assert "L of 5.1, in a file of its own" in made[0].reasons[0]
