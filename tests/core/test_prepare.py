"""Fold-downs and resampling: the coefficients, the levels, lengths and places."""

import numpy as np
import pytest
import soundfile

from nicelevel.core.channels import layout_from_count, layout_of_name
from nicelevel.core.errors import UnsupportedError
from nicelevel.core.files import take_in
from nicelevel.core.measure import measure
from nicelevel.core.prepare import prepare
from nicelevel.core.specs.spec import Channels
from nicelevel.core.steps.chain import described
from nicelevel.core.steps.fold import Fold
from nicelevel.core.steps.fold_matrix import fold_matrix
from nicelevel.core.steps.rate import Rate
from tests import signals

from .preparing import chain_of, made

HALF = np.sqrt(0.5)


def _matrix(source, target, **coefficients):
    return fold_matrix(layout_of_name(source), layout_of_name(target), Channels(**coefficients))


def test_fold_down_of_5_1_to_stereo():
    """ITU-R BS.775-4: Lo = L + 0.7071 C + 0.7071 Ls, LFE left out."""
    assert _matrix("5.1", "stereo") == pytest.approx(np.array([[1, 0, HALF, 0, HALF, 0], [0, 1, HALF, 0, 0, HALF]]))


def test_fold_down_of_5_1_to_one_channel():
    """ITU-R BS.775-4: 0.7071 (L + R) + C + 0.5 (Ls + Rs)."""
    assert _matrix("5.1", "mono") == pytest.approx(np.array([[HALF, HALF, 1, 0, 0.5, 0.5]]))


def test_coherent_full_scale_folds_to_plus_7_66_db():
    """Worked value: BS.775 and arithmetic."""
    assert 20 * np.log10(_matrix("5.1", "stereo").sum(axis=1)) == pytest.approx([7.66, 7.66], abs=0.005)


@pytest.mark.parametrize(("law", "level_db"), [("half", 0.0), ("power", 3.01), ("left", 0.0), ("right", 0.0)])
def test_mono_sum_of_identical_sides(law, level_db):
    """Worked values (arithmetic): half sum 0, -3 dB law +3.01 dB."""
    assert 20 * np.log10(_matrix("stereo", "mono", mono_law=law).sum()) == pytest.approx(level_db, abs=0.005)


def test_a_spec_has_its_own_coefficients():
    found = _matrix("5.1", "stereo", centre_db=0.0, surround_db=-6.0, lfe_db=-6.0)
    assert found[0] == pytest.approx([1, 0, 1, 0.5, 0.5, 0])


def test_backs_of_7_1_go_to_the_sides():
    positions = layout_of_name("7.1").positions
    left_surround = _matrix("7.1", "5.1")[4]
    assert left_surround[positions.index("Ls")] == 1.0
    assert left_surround[positions.index("Lb")] == pytest.approx(HALF)
    assert left_surround[positions.index("Rb")] == 0.0


def test_one_channel_in_two_is_the_same_in_both():
    assert _matrix("mono", "stereo").tolist() == [[1.0], [1.0]]


def test_heights_go_where_what_stands_under_them_goes_3_db_down():
    """Common practice; BS.775-4 for what stands under them."""
    positions = layout_of_name("7.1.4").positions
    stereo = dict(zip(positions, _matrix("7.1.4", "stereo")[0], strict=True))
    assert stereo == pytest.approx(
        {"L": 1.0, "C": HALF, "Ls": HALF, "Lb": HALF, "Tfl": HALF, "Tbl": 0.5}
        | dict.fromkeys(("R", "LFE", "Rs", "Rb", "Tfr", "Tbr"), 0.0),
        abs=1e-9,
    )
    wide = layout_of_name("7.1").positions
    rows = dict(zip(wide, _matrix("7.1.4", "7.1"), strict=True))
    assert rows["Lb"][positions.index("Tbl")] == pytest.approx(HALF, abs=1e-9)
    assert rows["L"][positions.index("Tfl")] == pytest.approx(HALF, abs=1e-9)
    assert rows["Ls"][positions.index("Tbl")] == 0.0
    five = dict(zip(layout_of_name("5.1").positions, _matrix("5.1.4", "5.1", height_db=-6.0), strict=True))
    assert five["Rs"][layout_of_name("5.1.4").positions.index("Tbr")] == 0.5
    left, right = _matrix("7.1.4", "stereo")
    assert _matrix("7.1.4", "mono")[0] == pytest.approx(HALF * (left + right), abs=1e-12)


def test_channels_without_places_cannot_be_folded():
    with pytest.raises(UnsupportedError, match="no stated places"):
        fold_matrix(layout_from_count(5), layout_of_name("stereo"), Channels())


def test_uncorrelated_stereo_folded_by_half_is_6_lu_less(tmp_path):
    """Worked value (arithmetic)."""
    path = signals.write(tmp_path / "a.wav", signals.noise(10, -20, seed=1), subtype="DOUBLE")
    mono = chain_of(path, Fold(layout="mono"))
    change = prepare(path, mono).reading.integrated_lufs - measure(path).integrated_lufs
    assert change == pytest.approx(-6.02, abs=0.05)


def test_one_channel_of_identical_sides_reads_3_01_lu_less(tmp_path):
    """BS.1770: channel energies are summed."""
    path = signals.write(tmp_path / "a.wav", signals.both(signals.noise(5, -20, channels=1)), subtype="DOUBLE")
    mono = chain_of(path, Fold(layout="mono"))
    change = prepare(path, mono).reading.integrated_lufs - measure(path).integrated_lufs
    assert change == pytest.approx(-3.01, abs=0.005)


@pytest.mark.parametrize(("rate", "to"), [(48_000, 44_100), (44_100, 48_000), (96_000, 16_000), (48_000, 96_000)])
def test_resampling_keeps_length_level_and_place(tmp_path, rate, to):
    """Length round(n · out / in); passband flat to 0.01 dB; no shift in time."""
    frames = rate + 331
    time = np.arange(frames) / rate
    tone = 0.5 * np.sin(2 * np.pi * 997 * time)
    path = signals.write(tmp_path / "a.wav", tone[:, None], rate, "DOUBLE")
    found = made(path, Rate(hz=to))
    assert len(found) == int(frames * to / rate + 0.5)
    expected = 0.5 * np.sin(2 * np.pi * 997 * np.arange(len(found)) / to)
    middle = slice(to // 10, -to // 10)
    assert np.abs(found[middle, 0] - expected[middle]).max() < 0.5 * (10 ** (0.01 / 20) - 1)


def test_a_9_khz_tone_leaves_nothing_at_7_khz_of_16(tmp_path):
    """Sampling theorem: what lies over half the new rate must not come back folded."""
    path = signals.write(tmp_path / "a.wav", signals.sine(9_000, -6.0, 2), subtype="DOUBLE")
    found = made(path, Rate(hz=16_000))[4_000:-4_000, 0]
    assert 20 * np.log10(np.abs(found).max()) < -110


def test_the_sum_may_pass_full_scale_and_is_measured_so(tmp_path):
    """Floating point between the steps: coherent 5.1 at full scale folds to +7.66 dBFS (BS.775 and arithmetic)."""
    path = signals.write(tmp_path / "a.wav", np.repeat(signals.sine(997, 0.0, 2), 6, axis=1), subtype="FLOAT")
    prepared = prepare(path, chain_of(path, Fold(layout="stereo")))
    assert prepared.reading.sample_peak_dbfs == pytest.approx(7.66, abs=0.005)
    assert prepared.reading.source.layout.name == "stereo"


def test_what_needs_nothing_is_the_source_itself(tmp_path):
    path = signals.write(tmp_path / "a.wav", signals.programme(1))
    with take_in(path) as audio:
        assert described(audio.source, chain_of(path)) == audio.source
    assert np.array_equal(made(path), soundfile.read(path, dtype="float32")[0])
