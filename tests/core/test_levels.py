"""What is read off the samples: levels, runs at full scale, silence, bits, the two sides."""

import numpy as np
import pytest

from nicelevel.core.units import db_from_ratio, lufs_from_energy, ratio_from_db
from tests import plain, signals, truths

from .measuring import meter_signal


@pytest.mark.parametrize(("level_db", "expected"), truths.RATIOS.items())
def test_decibels_as_ratios(level_db, expected):
    assert ratio_from_db(level_db) == pytest.approx(expected, abs=1e-5)
    assert db_from_ratio(ratio_from_db(level_db)) == pytest.approx(level_db)


def test_nothing_has_no_level():
    assert db_from_ratio(0.0) == lufs_from_energy(0.0) == -np.inf


def test_sine_at_full_scale_has_rms_3_01_db_under_a_square():
    assert meter_signal(signals.sine(1000, 0, 1)).rms_dbfs == pytest.approx(-3.0103, abs=1e-3)


def test_rms_leaves_out_the_lfe():
    from nicelevel.core.channels import layout_from_mask

    signal = signals.noise(1, -20, channels=6, seed=2)
    signal[:, 3] = 0.9
    reading = meter_signal(signal, layout=layout_from_mask(0x3F, 6))
    assert reading.rms_dbfs == pytest.approx(-20.0, abs=0.1)


def test_lfe_moves_no_loudness():
    from nicelevel.core.channels import layout_from_mask

    signal = signals.noise(2, -20, channels=6, seed=2)
    before = meter_signal(signal, layout=layout_from_mask(0x3F, 6)).integrated_lufs
    signal[:, 3] *= 10
    assert meter_signal(signal, layout=layout_from_mask(0x3F, 6)).integrated_lufs == before


def test_surrounds_weigh_1_5_db_more_and_rear_channels_of_7_1_do_not():
    """ITU-R BS.1770-5: 1.41 for Ls and Rs; the rear pair of 7.1 stands behind 120 degrees."""
    from nicelevel.core.channels import layout_from_mask

    layout = layout_from_mask(0x63F, 8)
    assert layout.positions == ("L", "R", "C", "LFE", "Lb", "Rb", "Ls", "Rs")
    assert layout.weights == (1.0, 1.0, 1.0, 0.0, 1.0, 1.0, 1.41, 1.41)


@pytest.mark.parametrize(
    ("mask", "name", "heavy"),
    [(0x2D60F, "5.1.4", {"Ls", "Rs"}), (0x2D63F, "7.1.4", {"Ls", "Rs"}), (0x563F, "7.1.2", {"Ls", "Rs"})],
)
def test_what_hangs_above_weighs_like_the_front(mask, name, heavy):
    """ITU-R BS.1770-5, Annex 3 (from memory): 1.41 from 60 to 120 degrees to the side and under 30 above, else 1."""
    from nicelevel.core.channels import layout_from_mask

    layout = layout_from_mask(mask, mask.bit_count())
    assert layout.name == name
    for position, weight in zip(layout.positions, layout.weights, strict=True):
        assert weight == (0.0 if position == "LFE" else 1.41 if position in heavy else 1.0), position


def test_twelve_channels_sum_by_their_weights():
    """The same tone in each channel of 7.1.4: nine at 1, two at 1.41, one not at all; BS.1770: 10·lg of the sum."""
    from nicelevel.core.channels import layout_from_mask

    tone = signals.sine(997, -30, 3)
    one = meter_signal(tone).integrated_lufs
    many = meter_signal(np.repeat(tone, 12, axis=1), layout=layout_from_mask(0x2D63F, 12)).integrated_lufs
    assert many - one == pytest.approx(10 * np.log10(9 + 2 * 1.41), abs=0.001)


def test_more_channels_than_lanes_are_measured_like_few():
    signal = signals.noise(3, -30, channels=19, seed=7) * np.linspace(0.2, 1.0, 19)
    reading = meter_signal(signal)
    peaks = [meter_signal(signal[:, [at]]).true_peak_dbtp for at in range(19)]
    assert reading.true_peak_per_channel_dbtp == pytest.approx(peaks, abs=1e-9)
    energies = [meter_signal(signal[:, [at]]).curves.energies for at in range(19)]
    assert reading.curves.energies == pytest.approx(np.sum(energies, axis=0), rel=1e-9)


def test_an_incomplete_last_hop_adds_no_silence_to_the_extremes():
    signal = np.full((48_010, 1), 0.25)
    reading = meter_signal(signal)
    assert (reading.min_sample, reading.max_sample) == (0.25, 0.25)


def test_dc_and_extremes():
    signal = signals.sine(1000, -20, 1) + 0.25
    reading = meter_signal(signal)
    assert reading.dc_offset == pytest.approx((0.25,), abs=1e-9)
    assert (reading.min_sample, reading.max_sample) == pytest.approx((0.15, 0.35), abs=1e-9)


@pytest.mark.parametrize("seed", range(5))
def test_clipped_samples_equal_the_plain_twin(seed):
    generator = np.random.default_rng(seed)
    signal = generator.choice([-1.3, -1.0, -0.5, 0.0, 1.0, 1.2], 2_000)
    assert meter_signal(signal[:, None]).clipped_samples == plain.clipped(signal, -1.0, 1.0)


def test_single_samples_at_full_scale_are_not_clipping_but_runs_are():
    signal = np.array([0, 1.0, 0, -1.0, 0, 1.0, 1.0, 1.0, 0, -1.0, -1.0, 1.0])[:, None]
    assert meter_signal(signal).clipped_samples == 5


def test_floating_point_that_passes_full_scale_is_clipped_only_where_it_stays_at_one_value():
    """Its runs may lie over the end of what is measured at once, and its peaks beyond full scale are not lost."""
    over = signals.sine(1000, 3.0, 1)
    assert meter_signal(over).clipped_samples == 0
    flat = np.clip(2.0 * over, -1.1, 1.1)
    found = meter_signal(flat)
    assert found.clipped_samples == plain.clipped(flat[:, 0], -1.0, 1.0) > 1000
    across = np.zeros((48_000 * 20, 1))
    across[48_000 * 8 - 2 : 48_000 * 8 + 2] = 1.2
    assert meter_signal(across).clipped_samples == 4


def test_clipping_of_integers_counts_at_the_largest_positive_code():
    signal = np.full((10, 1), 32767 / 32768)
    assert meter_signal(signal, encoding="pcm_16").clipped_samples == 10
    assert meter_signal(signal, encoding="pcm_24").clipped_samples == 0


@pytest.mark.parametrize(("bits", "declared"), [(16, 24), (24, 24), (16, 16), (8, 16), (20, 24)])
def test_bits_used_is_the_lowest_bit_that_moves(bits, declared):
    signal = np.round(signals.noise(0.2, -12, seed=1) * 2 ** (bits - 1)) / 2 ** (bits - 1)
    assert meter_signal(signal, encoding=f"pcm_{declared}").bits_used == bits


def test_floating_point_has_no_word_length():
    assert meter_signal(signals.noise(0.2)).bits_used is None


def test_silence_at_head_and_tail_is_under_minus_60_dbfs_in_every_channel():
    tone = signals.both(signals.sine(1000, -20, 1))
    signal = np.concatenate((signals.silence(1), tone, signals.silence(0.5) + 0.0009))
    reading = meter_signal(signal)
    assert reading.silence_head_s == pytest.approx(1.0, abs=0.001)
    assert reading.silence_tail_s == pytest.approx(0.5, abs=0.001)


def test_a_silent_file_is_silent_from_head_to_tail():
    reading = meter_signal(signals.silence(4), encoding="pcm_24")
    assert reading.silence_head_s == reading.silence_tail_s == 4.0
    assert reading.bits_used == 0
    assert reading.integrated_lufs == -np.inf
    assert reading.loudness_range_lu is None
    assert [note.code for note in reading.notes] == ["digital_silence"]


_SIDES = {
    "identical": lambda left, right: (left, left),
    "inverted": lambda left, right: (left, -left),
    "left_only": lambda left, right: (left, 0 * left),
    "right_only": lambda left, right: (0 * left, left),
    "none": lambda left, right: (left, right),
}


@pytest.mark.parametrize("kind", _SIDES)
def test_kind_of_sides(kind):
    left, right = signals.noise(1, seed=5).T
    reading = meter_signal(np.stack(_SIDES[kind](left, right), axis=1))
    assert reading.mono_kind == kind


def test_a_fault_of_minus_60_db_on_one_side_is_no_longer_identical():
    left, right = signals.noise(1, seed=5).T
    assert meter_signal(np.stack((left, left + 0.001 * right), axis=1)).mono_kind == "none"


def test_correlation_is_of_samples_less_their_means():
    left, right = signals.noise(2, seed=6).T
    mixed = np.stack((left + 0.3, 0.8 * left + 0.6 * right - 0.2), axis=1)
    assert meter_signal(mixed).correlation == pytest.approx(np.corrcoef(mixed.T)[0, 1], abs=1e-9)
