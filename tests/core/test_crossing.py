"""What channels have in common: losses and levels against the audio itself, summed by numpy."""

import numpy as np
import pytest

from nicelevel.core.channels import layout_of_name
from nicelevel.core.crossing import deepest, level_change_lu, listen_in_common, loss_db, loudness_alone
from nicelevel.core.crossing.presets import presets_of
from nicelevel.core.files import take_in
from nicelevel.core.measure import measure
from tests import signals

HALF = ((0.5, 0.5),)


def heard(path):
    with take_in(path) as audio:
        return listen_in_common(audio)


@pytest.fixture
def noise(tmp_path):
    """Two sides of noise that have nothing in common."""
    return signals.write(tmp_path / "noise.wav", signals.noise(60, seed=1))


def test_what_has_nothing_in_common_loses_nothing(noise):
    assert loss_db(heard(noise), HALF) == pytest.approx(0.0, abs=0.8)


def test_equal_sides_help_each_other_by_3_db_and_a_turned_one_takes_all_away(tmp_path):
    """Arithmetic: twice the amplitude against twice the energy; x - x."""
    same = heard(signals.write(tmp_path / "same.wav", signals.both(signals.noise(10, channels=1)), subtype="DOUBLE"))
    assert loss_db(same, HALF) == pytest.approx(10 * np.log10(2.0), abs=1e-9)
    assert loss_db(same, ((0.5, -0.5),)).max() < -100.0


def test_a_band_that_is_turned_over_is_found_with_the_pair_at_fault(tmp_path):
    """A tone at 210 Hz against itself, noise beside it; the centre has no part in it."""
    tone = signals.sine(210, -12.0, 20)
    bed = signals.noise(20, -40.0, channels=3, seed=2)
    sound = np.concatenate([tone, -0.9 * tone, 0 * tone], axis=1) + bed
    dip = deepest(heard(signals.write(tmp_path / "dip.wav", sound)), ((0.5, 0.5, 0.5),))
    assert dip.hz == pytest.approx(210, rel=0.06)
    assert dip.pair == (0, 1)
    # What is left of the tone, by hand: the difference of both sides against the sum of their energies.
    assert dip.db == pytest.approx(10 * np.log10(0.01 / 1.81), abs=0.5)


def test_what_hardly_loses_is_not_named(noise):
    assert deepest(heard(noise), HALF) is None
    assert deepest(heard(noise), ((0.0, 0.0),)) is None


@pytest.mark.parametrize(
    ("name", "rows"),
    [("mono", HALF), ("mono", ((1.0, 1.0),)), ("stereo", ((0.0, 1.0), (1.0, 0.0))), ("mono", ((0.0, 1.0),))],
)
def test_the_change_of_loudness_is_about_that_of_the_sum_itself(tmp_path, name, rows):
    sound = signals.programme(40, seed=3)
    path = signals.write(tmp_path / "in.wav", sound, subtype="DOUBLE")
    out = signals.write(tmp_path / "out.wav", sound @ np.array(rows).T, subtype="DOUBLE")
    told = level_change_lu(heard(path), rows, layout_of_name(name).weights)
    assert told == pytest.approx(measure(out).integrated_lufs - measure(path).integrated_lufs, abs=0.5)


def test_uncorrelated_sides_by_half_sum_become_6_lu_quieter(noise):
    """Arithmetic: half of each, a quarter of the energy of both."""
    assert level_change_lu(heard(noise), HALF, (1.0,)) == pytest.approx(-6.02, abs=0.1)


def test_low_effects_do_not_count_before_and_surrounds_count_more(tmp_path):
    """ITU-R BS.1770-5: weights 0 and 1.41."""
    sound = np.zeros((48_000 * 5, 6))
    sound[:, [3, 4]] = signals.noise(5, seed=4)
    found = heard(signals.write(tmp_path / "low.wav", sound))
    row = ((0.0, 0.0, 0.0, 0.0, 1.0, 0.0),)
    assert level_change_lu(found, row, (1.0,)) == pytest.approx(-10 * np.log10(1.41), abs=0.05)
    assert level_change_lu(found, ((1.0,) + 5 * (0.0,),), (1.0,)) is None


@pytest.mark.parametrize(("seconds", "rate_hz"), [(0.01, 48_000), (0.5, 44_100), (3, 96_000), (150, 48_000)])
def test_any_length_is_heard_and_what_cannot_be_sought_gives_the_same(tmp_path, seconds, rate_hz):
    path = signals.write(tmp_path / "in.wav", signals.programme(seconds, rate_hz, seed=5), rate=rate_hz)
    with take_in(path) as audio:
        sought = listen_in_common(audio)

    class OnlyForward:
        can_seek = False

        def __init__(self, audio):
            self.shape, self.blocks = audio.shape, audio.blocks

    with take_in(path) as audio:
        passing = listen_in_common(OnlyForward(audio))
    assert np.allclose(sought.by_band, passing.by_band, rtol=1e-6, atol=1e-18)
    assert np.allclose(sought.over_time, passing.over_time, rtol=1e-6, atol=1e-18)
    assert np.isfinite(sought.by_band).all()
    assert len(sought.over_time) <= 220


def test_places_against_each_other_are_seen_over_time(tmp_path):
    sound = signals.both(signals.noise(30, channels=1, seed=6))
    sound[10 * 48_000 : 15 * 48_000, 1] *= -1.0
    found = heard(signals.write(tmp_path / "turned.wav", sound))
    alike = found.over_time[:, 0, 1] / found.over_time[:, 0, 0]
    at_s = (np.arange(len(alike)) + 0.5) * 30 / len(alike)
    assert (alike[(at_s > 10.5) & (at_s < 14.5)] < -0.9).all()
    assert (alike[(at_s < 9.5) | (at_s > 15.5)] > 0.9).all()


def test_each_channel_alone_is_as_loud_as_its_own_file(tmp_path):
    sound = signals.programme(8, channels=3, seed=7)
    with take_in(signals.write(tmp_path / "three.wav", sound, subtype="DOUBLE")) as audio:
        found = loudness_alone(audio)
    for channel, lufs in enumerate(found):
        alone = signals.write(tmp_path / f"{channel}.wav", sound[:, [channel]], subtype="DOUBLE")
        assert lufs == pytest.approx(measure(alone).integrated_lufs, abs=0.001)


@pytest.mark.parametrize("name", ["mono", "stereo", "5.1", "7.1", "7.1.4", "4.0"])
def test_usual_ways_lead_to_the_layouts_that_they_name(name):
    layout = layout_of_name(name)
    first, *others = presets_of(layout)
    assert np.array_equal(first.rows, np.eye(len(layout.positions)))
    for each in others:
        assert np.shape(each.rows) == (len(layout_of_name(each.layout).positions), len(layout.positions))
        assert each.said.endswith(".")
    assert len({each.name for each in others}) == len(others) > 0


def test_the_laws_change_equal_sides_by_what_they_say():
    """Arithmetic: 0, +3.01 and +6.02 dB."""
    half, power, plain = presets_of(layout_of_name("stereo"))[1:4]
    changes_db = [20 * np.log10(sum(each.rows[0])) for each in (half, power, plain)]
    assert changes_db == pytest.approx([0.0, 3.01, 6.02], abs=0.005)
    for each, words in zip((half, power, plain), ("0 dB", "3.01 dB", "6.02 dB"), strict=True):
        assert words in each.said
