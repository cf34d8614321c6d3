"""Files of one channel as one: told by name and length, heard, and read side by side as if they were one file."""

from pathlib import Path

import numpy as np
import pytest
import soundfile

from nicelevel.core.channels import layout_from_count, layout_of_name
from nicelevel.core.crossing.sides import Mono, common_name, listen_to_sides, propose_sides, sentence_of_sides
from nicelevel.core.errors import DamagedError, UnsupportedError
from nicelevel.core.files import take_in, take_in_beside
from nicelevel.core.files.beside import SUFFIX, text_beside
from nicelevel.core.measure import measure
from nicelevel.core.values import Source
from tests import signals


def _monos(*names, frames=48_000, rate=48_000, channels=1, encoding="pcm_24"):
    described = Source(Path("x"), 1, "wav", encoding, rate, layout_from_count(channels), frames, 24)
    return [Mono(name, name, described) for name in names]


def _told(*candidates):
    return [(each.name, each.layout, each.keys) for each in propose_sides(candidates)]


@pytest.mark.parametrize(
    ("left", "right"),
    [
        ("Guide L", "Guide R"),
        ("Guide_Left", "Guide_Right"),
        ("Guide-A1", "Guide-A2"),
        ("Guide_1", "Guide_2"),
        ("L Guide", "R Guide"),
        ("Guide.l", "Guide.r"),
        ("Guide (L)", "Guide (R)"),
        ("Guide_01", "Guide_02"),
    ],
)
def test_a_pair_is_told_by_every_usual_way_of_naming(left, right):
    """Ways of naming: common practice."""
    assert _told(*_monos(right, left)) == [("Guide", "stereo", (left, right))]


@pytest.mark.parametrize(
    "names",
    [
        ("Guide L", "Keeper R"),
        ("Guide L", "Guide LR"),
        ("Guide 1", "Guide 3"),
        ("Guide_1", "Guide_2", "Guide_3"),
        ("Level", "Rever"),
        ("Guide L", "Guide L"),
        ("Guide L",),
        ("GuideL", "GuideR"),
        ("L of it", "of R it"),
        ("Act 1 Sea", "Act 2 Sea"),
    ],
)
def test_names_that_are_no_pair(names):
    assert _told(*_monos(*names)) == []


@pytest.mark.parametrize("other", [{"frames": 48_001}, {"rate": 44_100}, {"channels": 2}, {"encoding": "pcm_16"}])
def test_what_differs_by_one_sample_in_rate_or_in_words_is_no_pair(other):
    assert _told(*_monos("Guide L"), *_monos("Guide R", **other)) == []


def test_six_files_are_5_1_in_its_order_and_not_three_pairs():
    names = ["Mix.Rs", "Mix.L", "Mix.LFE", "Mix.C", "Mix.Ls", "Mix.R"]
    order = ("Mix.L", "Mix.R", "Mix.C", "Mix.LFE", "Mix.Ls", "Mix.Rs")
    assert _told(*_monos(*names)) == [("Mix", "5.1", order)]
    assert _told(*_monos(*names[:-1])) == []  # one is missing: no layout


def test_a_name_for_what_they_are():
    assert common_name(["Night Left", "Night Right"]) == "Night"
    assert common_name(["L_night take", "R_night take"]) == "night take"
    assert common_name(["L", "R"]) == "L R"


def _written(tmp_path, *sounds, subtype="PCM_24", rate=48_000, suffix="wav"):
    return [signals.write(tmp_path / f"{number}.{suffix}", each, rate, subtype) for number, each in enumerate(sounds)]


@pytest.mark.parametrize(
    ("subtype", "suffix"),
    [
        ("PCM_U8", "wav"),
        ("PCM_16", "wav"),
        ("PCM_24", "wav"),
        ("PCM_32", "wav"),
        ("FLOAT", "wav"),
        ("DOUBLE", "wav"),
        ("PCM_24", "aiff"),
        ("PCM_16", "flac"),
        ("PCM_24", "flac"),
    ],
)
def test_two_files_are_read_like_the_one_they_would_have_been(tmp_path, subtype, suffix):
    """Against libsndfile writing both channels into one file: every figure, every sample, every window."""
    both = signals.programme(7.3, rate=44_100, seed=3)
    paths = _written(tmp_path, both[:, :1], both[:, 1:], subtype=subtype, rate=44_100, suffix=suffix)
    whole = signals.write(tmp_path / f"whole.{suffix}", both, 44_100, subtype)
    named = tmp_path / f"audio{SUFFIX}"
    named.write_text(text_beside("stereo", [each.name for each in paths]))
    with take_in(named) as beside, take_in(whole) as one:
        assert beside.shape == one.shape
        assert np.array_equal(beside.window(30_001, 99_990), one.window(30_001, 99_990))
    with take_in(named) as beside, take_in(whole) as one:
        blocks = [np.concatenate(list(each.blocks(5_000))) for each in (beside, one)]
    assert np.array_equal(*blocks)
    found, expected = measure(named), measure(whole)
    for name in ("integrated_lufs", "true_peak_per_channel_dbtp", "loudness_range_lu", "bits_used", "correlation"):
        assert getattr(found, name) == getattr(expected, name), name


def test_files_of_other_codecs_too(tmp_path):
    """Decoded by libraries in blocks of their own: no sample is lost between two of them."""
    both = signals.programme(5, seed=4)
    paths = [tmp_path / "l.ogg", tmp_path / "r.ogg"]
    for path, side in zip(paths, both.T, strict=True):
        soundfile.write(path, side, 48_000, format="OGG", subtype="VORBIS")
    with take_in_beside("stereo", paths) as beside:
        found = np.concatenate(list(beside.blocks(1_000)))
    for channel, path in enumerate(paths):
        assert np.array_equal(found[:, channel], soundfile.read(path, dtype="float32")[0])
    named = tmp_path / f"audio{SUFFIX}"
    named.write_text(text_beside("stereo", ["l.ogg", "r.ogg"]))
    assert "without_end" not in {note.code for note in measure(named).notes}


def test_channels_lie_where_the_layout_says(tmp_path):
    sounds = [signals.sine(100.0 * (number + 1), -20, 1)[:, :1] for number in range(6)]
    with take_in_beside("5.1", _written(tmp_path, *sounds)) as audio:
        assert audio.shape.layout == layout_of_name("5.1")
        samples = np.concatenate(list(audio.blocks(48_000)))
    loudest = np.abs(np.fft.rfft(samples[:48_000], axis=0)).argmax(axis=0)
    assert loudest.tolist() == [100, 200, 300, 400, 500, 600]


def test_files_that_are_unlike_are_refused_with_a_sentence(tmp_path):
    short, longer = signals.noise(1, channels=1), signals.noise(2, channels=1)
    with pytest.raises(UnsupportedError, match="one rate, one length"):
        take_in_beside("stereo", _written(tmp_path, short, longer))
    with pytest.raises(UnsupportedError, match="one channel"):
        take_in_beside("stereo", _written(tmp_path, signals.noise(1), signals.noise(1)))
    with pytest.raises(UnsupportedError, match="has 6 channels, not 2"):
        take_in_beside("5.1", _written(tmp_path, short, short))
    broken = tmp_path / f"audio{SUFFIX}"
    broken.write_text("{}")
    with pytest.raises(DamagedError):
        take_in(broken)


def _said(tmp_path, left, right):
    paths = _written(tmp_path, left, right, subtype="DOUBLE")
    return sentence_of_sides(listen_to_sides("stereo", paths), ["Guide L", "Guide R"])


def test_what_the_samples_say(tmp_path):
    """Correlation against numpy's own."""
    one, other = signals.noise(6, channels=1, seed=1), signals.noise(6, channels=1, seed=2)
    assert _said(tmp_path, one, one) == "Both hold the same: one of them is enough."
    assert _said(tmp_path, one, -one) == "Their correlation is −1.00: one of them seems turned over."
    assert _said(tmp_path, one, 0.0 * one) == "Guide R is silent."
    assert _said(tmp_path, 0.0 * one, one) == "Guide L is silent."
    assert _said(tmp_path, 0.0 * one, 0.0 * one) == "Both are silent."
    mixed = 0.6 * one + 0.8 * other
    found = listen_to_sides("stereo", _written(tmp_path, one, mixed, subtype="DOUBLE"))
    assert found.correlation == pytest.approx(np.corrcoef(one[:, 0], mixed[:, 0])[0, 1], abs=0.02)
    assert "Their correlation is +0.6" in _said(tmp_path, one, mixed)
    assert _said(tmp_path, one, 0.5 * other).endswith("and Guide L is 6.0 dB louder than Guide R.")
    assert _said(tmp_path, 0.25 * one, other).endswith("and Guide R is 12.1 dB louder than Guide L.")
    assert _said(tmp_path, one, other).endswith("and they are equally loud.")


def test_of_more_than_two_it_is_said_whose_correlation_it_is(tmp_path):
    paths = _written(tmp_path, *(signals.noise(3, channels=1, seed=seed) for seed in range(6)))
    names = ["L", "R", "C", "LFE", "Ls", "Rs"]
    said = sentence_of_sides(listen_to_sides("5.1", paths), names)
    assert said.startswith("L and R: their correlation is ")


def test_almost_the_same_is_not_the_same(tmp_path):
    one = signals.noise(6, channels=1, seed=1)
    assert "+1.00" in _said(tmp_path, one, 0.99 * one)  # 0.09 dB quieter
