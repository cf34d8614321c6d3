"""Loudness against the EBU's synthetic cases, BS.1770's own check, and libebur128."""

import numpy as np
import pytest

from nicelevel.core.channels import layout_from_mask
from nicelevel.core.measure.gating import (
    HOPS_PER_SECOND,
    MOMENTARY_HOPS,
    SHORT_TERM_HOPS,
    loudest_lufs,
    series_lufs,
    window_energies,
)
from nicelevel.core.measure.k_weighting import coefficients
from nicelevel.core.measure.loudness_range import loudness_range_lu
from nicelevel.core.units import LUFS_OFFSET_DB
from tests import plain, reference, signals, truths

from .measuring import meter_signal


@pytest.mark.parametrize("case", truths.INTEGRATED)
def test_integrated_loudness_of_ebu_case(case):
    make, expected, own = truths.INTEGRATED[case]
    found = meter_signal(make()).integrated_lufs
    assert found == pytest.approx(expected, abs=truths.INTEGRATED_TOLERANCE_LU)
    assert found == pytest.approx(own, abs=truths.OWN_LOUDNESS_LU)


def test_ebu_3341_1_reads_the_same_in_every_window():
    reading = meter_signal(truths.INTEGRATED["3341-1"][0]())
    assert reading.max_momentary_lufs == pytest.approx(-23.0, abs=0.1)
    assert reading.max_short_term_lufs == pytest.approx(-23.0, abs=0.1)


def test_integrated_loudness_of_ebu_case_3341_6_in_five_channels():
    reading = meter_signal(truths.five_channels(), layout=layout_from_mask(0x607, 5))
    assert reading.integrated_lufs == pytest.approx(-23.0, abs=0.1)
    theirs = reference.read(truths.five_channels(), 48_000, ["L", "R", "C", "Ls", "Rs"])
    assert reading.integrated_lufs == pytest.approx(theirs.integrated_lufs, abs=truths.OWN_LOUDNESS_LU)


def test_short_term_of_ebu_case_3341_9_is_steady():
    reading = meter_signal(truths.SHORT_TERM_3341_9())
    steady = window_energies(reading.curves.energies, SHORT_TERM_HOPS)
    assert LUFS_OFFSET_DB + 10 * np.log10(steady) == pytest.approx(-23.0, abs=0.1)


def test_momentary_of_ebu_case_3341_12_is_steady():
    reading = meter_signal(truths.MOMENTARY_3341_12())
    steady = window_energies(reading.curves.energies, MOMENTARY_HOPS)[60:]
    assert LUFS_OFFSET_DB + 10 * np.log10(steady) == pytest.approx(-23.0, abs=0.1)


@pytest.mark.parametrize("number", range(20))
def test_max_short_term_of_ebu_case_3341_10(number):
    assert meter_signal(truths.short_term_3341_10(number)).max_short_term_lufs == pytest.approx(-23.0, abs=0.1)


@pytest.mark.parametrize("number", range(20))
def test_max_momentary_of_ebu_case_3341_13(number):
    assert meter_signal(truths.momentary_3341_13(number)).max_momentary_lufs == pytest.approx(-23.0, abs=0.1)


@pytest.mark.parametrize("case", truths.RANGES)
def test_loudness_range_of_ebu_case(case):
    make, expected = truths.RANGES[case]
    found = meter_signal(make()).loudness_range_lu
    assert found == pytest.approx(expected, abs=truths.RANGE_TOLERANCE_LU)
    assert found == pytest.approx(expected, abs=truths.OWN_RANGE_LU)


def test_997_hz_at_full_scale_in_one_channel_reads_minus_3_01():
    """ITU-R BS.1770-5, Annex 1."""
    assert meter_signal(signals.sine(997, 0, 5)).integrated_lufs == pytest.approx(-3.01, abs=0.005)


def test_one_channel_reads_3_01_lu_less_than_the_same_in_two():
    """ITU-R BS.1770-5 sums channel energies; opposite polarity changes nothing."""
    mono = signals.sine(997, 0, 5)
    stereo = meter_signal(signals.both(mono)).integrated_lufs
    assert stereo == pytest.approx(0.0, abs=0.005)
    assert stereo - meter_signal(mono).integrated_lufs == pytest.approx(3.01, abs=0.005)
    assert meter_signal(signals.both(mono) * [1, -1]).integrated_lufs == pytest.approx(stereo, abs=1e-9)


def test_coefficients_at_48_khz_are_those_the_standard_prints():
    """ITU-R BS.1770-5, Annex 1, tables 1 and 2."""
    printed = [
        [1.53512485958697, -2.69169618940638, 1.19839281085285, -1.69065929318241, 0.73248077421585],
        [1.0, -2.0, 1.0, -1.99004745483398, 0.99007225036621],
    ]
    assert coefficients(48_000) == pytest.approx(np.array(printed), abs=1e-12)


_RATES = (8_000, 11_025, 16_000, 22_050, 44_100, 48_000, 96_000, 192_000)


@pytest.mark.parametrize("rate", _RATES)
@pytest.mark.parametrize("kind", ["noise", "programme"])
def test_varied_material_reads_as_libebur128_reads_it(rate, kind):
    seconds = 30 if rate < 90_000 else 10
    make = {"noise": signals.noise, "programme": signals.programme}[kind]
    signal = make(seconds, rate=rate, seed=rate)
    ours, theirs = meter_signal(signal, rate), reference.read(signal, rate)
    assert ours.integrated_lufs == pytest.approx(theirs.integrated_lufs, abs=0.02)
    if rate % 10 == 0:  # at 11,025 Hz the reference's tenth of a second is 1,103 frames, and its windows drift
        assert range_at_steps_of_a_second(ours) == pytest.approx(theirs.loudness_range_lu, abs=0.1)
    assert ours.max_momentary_lufs == pytest.approx(theirs.max_momentary_lufs, abs=0.02)
    assert ours.max_short_term_lufs == pytest.approx(theirs.max_short_term_lufs, abs=0.02)


def range_at_steps_of_a_second(reading):
    """libebur128 takes a short-term value every second for its range, where ours takes ten."""
    return loudness_range_lu(window_energies(reading.curves.energies, SHORT_TERM_HOPS)[::HOPS_PER_SECOND])


_MATERIALS = {
    "speech": lambda rate, seed: _speech(rate, seed),
    "tones": lambda rate, seed: (
        signals.sine(220.0 + seed, -20, 12, rate=rate) + signals.sine(1_510.0, -32, 12, rate=rate)
    ),
    "bursts": lambda rate, seed: signals.noise(12, -18, rate, 2, seed) * _gates(12 * rate, rate, seed),
}


def _gates(frames, rate, seed):
    """On and off in turns of a fifth of a second to two seconds."""
    generator = np.random.default_rng(seed)
    turns = np.cumsum(generator.uniform(0.2, 2.0, 60))
    return (np.searchsorted(turns, np.arange(frames) / rate) % 2).astype(float)[:, None]


def _speech(rate, seed):
    """Like speech: a buzz with three formants, syllables four times a second, pauses between phrases."""
    time = np.arange(14 * rate) / rate
    generator = np.random.default_rng(seed)
    pitch = np.cumsum(110 + 20 * np.sin(2 * np.pi * 0.7 * time)) / rate
    buzz = sum(
        np.sin(2 * np.pi * harmonic * pitch) / harmonic for harmonic in range(1, 24) if 140 * harmonic < rate / 2
    )
    syllables = np.clip(np.sin(2 * np.pi * 2.1 * time + generator.uniform(0, 6)), 0, 1) ** 0.5
    phrases = (np.sin(2 * np.pi * 0.13 * time + generator.uniform(0, 6)) > -0.6).astype(float)
    return signals.both((0.25 * buzz * syllables * phrases + 1e-5 * generator.standard_normal(len(time)))[:, None])


@pytest.mark.parametrize("rate", _RATES)
@pytest.mark.parametrize("kind", sorted(_MATERIALS))
def test_speech_tones_and_bursts_read_as_libebur128_reads_them(rate, kind):
    signal = _MATERIALS[kind](rate, rate)
    ours, theirs = meter_signal(signal, rate), reference.read(signal, rate)
    assert ours.integrated_lufs == pytest.approx(theirs.integrated_lufs, abs=0.02)
    if rate % 10 == 0:
        assert range_at_steps_of_a_second(ours) == pytest.approx(theirs.loudness_range_lu, abs=0.1)
    assert ours.max_momentary_lufs == pytest.approx(theirs.max_momentary_lufs, abs=0.02)
    assert ours.max_short_term_lufs == pytest.approx(theirs.max_short_term_lufs, abs=0.02)


@pytest.mark.parametrize("channels", [1, 3, 5])
def test_other_channel_counts_read_as_libebur128_reads_them(channels):
    positions = {1: ["C"], 3: ["L", "R", "C"], 5: ["L", "R", "C", "Ls", "Rs"]}[channels]
    layout = layout_from_mask({1: 0x4, 3: 0x7, 5: 0x607}[channels], channels)
    signal = signals.programme(15, channels=channels, seed=channels)
    ours, theirs = meter_signal(signal, layout=layout), reference.read(signal, 48_000, positions)
    assert ours.integrated_lufs == pytest.approx(theirs.integrated_lufs, abs=0.02)
    assert ours.max_short_term_lufs == pytest.approx(theirs.max_short_term_lufs, abs=0.02)


def test_surround_reads_as_libebur128_reads_it():
    signal = signals.programme(12, channels=6, seed=6)
    ours = meter_signal(signal, layout=layout_from_mask(0x60F, 6))
    theirs = reference.read(signal, 48_000, ["L", "R", "C", "unused", "Ls", "Rs"])
    assert ours.integrated_lufs == pytest.approx(theirs.integrated_lufs, abs=0.02)


def test_silence_before_steady_noise_moves_rms_but_hardly_loudness():
    """Half a second of silence before three of noise: RMS −0.67 dB, integrated about −0.3 LU (arithmetic)."""
    steady = signals.noise(3.0, seed=3)
    late = np.concatenate((signals.silence(0.5), steady))
    before, after = meter_signal(steady), meter_signal(late)
    assert after.rms_dbfs - before.rms_dbfs == pytest.approx(-0.67, abs=0.01)
    assert after.integrated_lufs - before.integrated_lufs == pytest.approx(-0.3, abs=0.1)
    assert after.sample_peak_dbfs == before.sample_peak_dbfs


@pytest.mark.parametrize("rate", [8_000, 11_025, 44_100])
def test_hop_energies_equal_their_plain_twin(rate):
    signal = signals.programme(1.234, rate, seed=9)
    ours = meter_signal(signal, rate).curves.energies
    assert ours == pytest.approx(plain.hop_energies(signal, rate, (1.0, 1.0)), rel=1e-9, abs=1e-18)


def test_stretches_side_by_side_equal_one_filter_run_through():
    """Seventy seconds of two channels are three blocks of eight stretches; the filter begins anew in each."""
    signal = signals.programme(70, 8_000, seed=21)
    ours = meter_signal(signal, 8_000).curves.energies
    assert ours == pytest.approx(plain.hop_energies(signal, 8_000, (1.0, 1.0)), rel=1e-9, abs=1e-18)


def test_window_means_equal_their_plain_twin():
    energies = np.random.default_rng(4).exponential(1.0, 1000) ** 6
    for hops in (1, 40, 300, 1000):
        assert window_energies(energies, hops) == pytest.approx(plain.window_means(energies, hops), rel=1e-9)
    assert len(window_energies(energies[:299], 300)) == 0


@pytest.mark.parametrize("hops", [39, 40, 45, 300, 305, 1234])
@pytest.mark.parametrize("unevenness", [0, 1, 8])
def test_loudest_window_is_that_of_all_windows(hops, unevenness):
    energies = np.random.default_rng(hops).random(hops) ** unevenness
    for window in (MOMENTARY_HOPS, SHORT_TERM_HOPS):
        every = plain.window_means(energies, window)
        expected = LUFS_OFFSET_DB + 10 * np.log10(every.max()) if len(every) else -np.inf
        assert loudest_lufs(energies, window) == pytest.approx(expected, abs=1e-9)


def test_quiet_windows_after_a_very_loud_one_are_not_lost_in_rounding():
    energies = np.concatenate((np.full(50, 1e6), np.full(500, 1e-9)))
    assert window_energies(energies, 40)[-1] == pytest.approx(1e-9, rel=1e-3)


def test_series_belongs_to_the_windows_that_end_at_each_tenth():
    reading = meter_signal(truths.INTEGRATED["3341-1"][0]())
    momentary = series_lufs(reading.curves.energies, MOMENTARY_HOPS)
    assert len(momentary) == 200
    assert np.isnan(momentary[:3]).all()
    assert momentary[3:] == pytest.approx(-23.0, abs=0.1)


@pytest.mark.parametrize("sizes", [[1], [7, 1, 4801], [65_536], [48_000], [47_999, 2]])
def test_block_size_changes_no_result(sizes):
    signal = signals.programme(3.3, 44_100, seed=1)[:, :2]
    signal = signal[:3_000] if sizes == [1] else signal
    whole, parts = meter_signal(signal, 44_100), meter_signal(signal, 44_100, sizes=sizes)
    assert parts == whole
    assert np.array_equal(parts.curves.energies, whole.curves.energies)
    assert np.array_equal(parts.curves.peaks, whole.curves.peaks)
