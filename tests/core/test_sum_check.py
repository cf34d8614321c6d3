"""Eight synthetic stems against their mix: each fault that arithmetic can name is named, with its stem."""

import subprocess

import numpy as np
import pytest

from nicelevel.core.errors import UnsupportedError
from nicelevel.core.plan.sum_check import check_sum
from tests import signals

RATE, STEMS, AT = 48_000, 8, 5


def _stems():
    """Eight that do not resemble each other: noise and tones of their own."""
    made = []
    for number in range(STEMS):
        tone = signals.both(signals.sine(110 * 1.7**number, -24, 4))
        swell = np.sin(np.linspace(0.3, 4 + number, len(tone)))[:, None]
        made.append(tone * swell + signals.noise(4, -40, seed=number))
    return made


def _check(tmp_path, mix, stems):
    paths = [signals.write(tmp_path / f"stem {n}.wav", stem) for n, stem in enumerate(stems)]
    return check_sum(signals.write(tmp_path / "mix.wav", mix), paths)


def test_stems_that_add_up_say_so(tmp_path):
    stems = _stems()
    found = _check(tmp_path, sum(stems), stems)
    assert found.adds_up
    assert found.residual_db < -60
    assert len(found.series_db) == 40


def _late(stem, frames):
    return np.concatenate((np.zeros((frames, 2)), stem[:-frames]))


@pytest.mark.parametrize(
    ("cause", "in_mix", "amount"),
    [
        ("missing", lambda stem: 0.0 * stem, None),
        ("doubled", lambda stem: 2.0 * stem, None),
        ("inverted", lambda stem: -stem, None),
        ("shifted", lambda stem: _late(stem, 1), 1 / RATE),
        ("shifted", lambda stem: _late(stem, 480), 0.01),
        ("level", lambda stem: stem * 10 ** (0.5 / 20), 0.5),
        ("level", lambda stem: stem * 10 ** (-0.5 / 20), -0.5),
    ],
)
def test_the_stem_that_is_wrong_in_the_mix_is_named(tmp_path, cause, in_mix, amount):
    stems = _stems()
    mix = sum(in_mix(stem) if number == AT else stem for number, stem in enumerate(stems))
    found = _check(tmp_path, mix, stems)
    assert (found.cause, found.stem) == (cause, AT)
    assert found.amount == (None if amount is None else pytest.approx(amount, abs=0.02 if cause == "level" else 1e-9))


def test_something_that_is_in_no_stem_is_not_pinned_on_one(tmp_path):
    stems = _stems()
    found = _check(tmp_path, sum(stems) + signals.noise(4, -30, seed=99), stems)
    assert (found.cause, found.stem) == ("unknown", None)


def test_where_it_does_not_add_up_is_seen_over_time(tmp_path):
    stems = _stems()
    mix = sum(stems)
    mix[RATE : RATE + RATE // 2] += signals.noise(0.5, -30, seed=5)
    found = _check(tmp_path, mix, stems)
    loud = [n for n, level in enumerate(found.series_db) if level > -50]
    assert loud == list(range(10, 15))


def test_a_stem_of_another_length_is_refused_by_name(tmp_path):
    stems = _stems()
    with pytest.raises(UnsupportedError, match=r"stem 1.wav has 191990 frames, mix.wav 192000"):
        _check(tmp_path, sum(stems), [stems[0], stems[1][:-10]])


def test_stems_of_another_coding_are_held_against_the_mix_too(tmp_path):
    """Decoders give blocks of other sizes: ALAC in packets, WAVE as many frames as were asked for."""
    stems = _stems()
    mix = signals.write(tmp_path / "mix.wav", sum(stems))
    paths = []
    for number, stem in enumerate(stems):
        wave = signals.write(tmp_path / f"{number}.wav", stem)
        paths.append(tmp_path / f"{number}.m4a")
        subprocess.run(["ffmpeg", "-loglevel", "error", "-i", wave, "-c:a", "alac", paths[-1]], check=True)
    assert check_sum(mix, paths).adds_up


def test_silence_adds_up(tmp_path):
    assert _check(tmp_path, signals.silence(1), [signals.silence(1)]).adds_up
