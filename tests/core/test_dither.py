"""Dither and rounding: Lipshitz, Wannamaker, Vanderkooy, "Quantization and Dither", JAES 40 (1992)."""

import numpy as np
import pytest

from nicelevel.core.channels import layout_from_count
from nicelevel.core.digest import seed_of
from nicelevel.core.render.dither import Rounder, rounded
from nicelevel.core.shaping import most_steps, sensitivity, shaping_filter
from nicelevel.core.units import db_from_energy
from nicelevel.core.values import OutputFormat
from tests import plain, signals

RATE, FRAMES = 48_000, 1 << 20


def _error_steps(signal: np.ndarray, bits: int, dithers: bool) -> np.ndarray:
    return rounded(signal, bits, dithers, 7, 0) - signal * 2 ** (bits - 1)


def test_tpdf_error_has_mean_0_and_a_quarter_step_squared_variance():
    signal = signals.noise(FRAMES / 48_000, -20, channels=1, seed=1)
    error = _error_steps(signal, 16, True)
    assert error.mean() == pytest.approx(0.0, abs=4 * 0.5 / np.sqrt(FRAMES))
    assert error.var() == pytest.approx(0.25, rel=0.02)


def test_tpdf_error_does_not_follow_the_signal():
    """No noise modulation: the error of a slow low-level ramp has the same variance everywhere."""
    ramp = np.linspace(0, 2 / 32768, FRAMES)[:, None]
    parts = _error_steps(ramp, 16, True).reshape(16, -1)
    assert parts.var(axis=1) == pytest.approx(0.25, rel=0.03)
    assert parts.mean(axis=1) == pytest.approx(0.0, abs=0.01)


@pytest.mark.parametrize(("dithers", "expected_db"), [(True, -96.33), (False, -101.10)])
def test_error_levels_at_16_bits(dithers, expected_db):
    signal = signals.noise(FRAMES / 48_000, -20, channels=1, seed=2)
    error = _error_steps(signal, 16, dithers) / 32768
    assert db_from_energy(float(np.mean(error**2))) == pytest.approx(expected_db, abs=0.05)


def test_a_tone_of_0_4_steps_vanishes_rounded_and_stays_dithered():
    tone = 0.4 / 32768 * np.sin(2 * np.pi * 1000 * np.arange(FRAMES) / 48_000)[:, None]
    assert not rounded(tone, 16, False, 7, 0).any()
    kept = rounded(tone, 16, True, 7, 0)[:, 0] @ tone[:, 0] / (tone[:, 0] @ tone[:, 0]) / 32768
    assert kept == pytest.approx(1.0, abs=0.02)


def test_no_harmonics_of_a_minus_90_dbfs_sine_stand_out():
    tone = signals.sine(1000, -90, FRAMES / 48_000)
    spectrum = np.abs(np.fft.rfft(rounded(tone, 16, True, 3, 0)[:48_000, 0] * np.hanning(48_000)))
    floor = np.median(spectrum[100:20_000])
    harmonics = spectrum[[2000, 3000, 4000, 5000, 7000]]
    assert harmonics.max() < 4 * floor
    assert spectrum[1000] > 20 * floor


def test_rounding_without_dither_equals_its_plain_twin():
    signal = np.concatenate((signals.noise(0.1, -6, seed=5), [[1.0, -1.0], [0.9999999, -1.5]]))
    for bits in (16, 24):
        assert np.array_equal(rounded(signal, bits, False, 0, 0), plain.rounded(signal, bits))


def test_block_size_changes_no_code():
    signal = signals.noise(0.2, seed=4)
    whole = rounded(signal, 16, True, 99, 0)
    parts = np.concatenate([rounded(signal[n : n + 777], 16, True, 99, n) for n in range(0, len(signal), 777)])
    assert np.array_equal(whole, parts)


def test_seeds_differ_and_channels_are_independent():
    zeros = np.zeros((FRAMES // 4, 2))
    one, other = rounded(zeros, 16, True, 1, 0), rounded(zeros, 16, True, 2, 0)
    assert not np.array_equal(one, other)
    assert np.corrcoef(one.T)[0, 1] == pytest.approx(0.0, abs=0.01)


def _shaped(signal, rate=48_000, bits=16, dither="shaped", block=1 << 15):
    output = OutputFormat("wav", f"pcm_{bits}", rate, layout_from_count(signal.shape[1]), dither)
    rounder = Rounder(output, True, 7)
    return np.concatenate([rounder.round(signal[at : at + block]) for at in range(0, len(signal), block)])


def _bs_468(hz):
    """Noise weighting of ITU-R BS.468-4 by power, in the usual rational form (constants from memory)."""
    one = -4.737338981378384e-24 * hz**6 + 2.043828333606125e-15 * hz**4 - 1.363894795463638e-7 * hz**2 + 1
    other = 1.306612257412824e-19 * hz**5 - 2.118150887518656e-11 * hz**3 + 5.559488023498642e-4 * hz
    return (1.246332637532143e-4 * hz) ** 2 / (one**2 + other**2)


@pytest.mark.parametrize("rate", [44_100, 48_000, 96_000])
def test_shaped_noise_is_heard_less_by_two_weightings(rate):
    signal = signals.noise(4, -20, rate, channels=1, seed=1)
    levels = {}
    for dither in ("tpdf", "shaped"):
        error = _shaped(signal, rate, dither=dither)[:, 0] - signal[:, 0] * 32768
        windows = error[: len(error) // 4096 * 4096].reshape(-1, 4096) * np.hanning(4096)
        power = (np.abs(np.fft.rfft(windows)) ** 2).mean(axis=0)
        hz = np.fft.rfftfreq(4096, 1 / rate)
        levels[dither] = [db_from_energy(float((power * weight(hz)).sum())) for weight in (_bs_468, sensitivity)]
    by_468, by_threshold = np.subtract(levels["tpdf"], levels["shaped"])
    assert by_468 >= 3.0
    assert by_threshold >= 6.0


def test_the_shaped_error_is_the_dithers_through_the_filter():
    signal = signals.noise(2, -20, channels=1, seed=2)
    error = _shaped(signal)[:, 0] - signal[:, 0] * 32768
    response = np.fft.rfft([1.0, *(-tap for tap in shaping_filter(48_000))], 4096)
    assert error.var() == pytest.approx(0.25 * np.mean(np.abs(response) ** 2), rel=0.05)
    assert np.abs(error).max() <= most_steps("shaped", 48_000)


def test_shaping_keeps_a_tone_under_a_step_and_makes_no_harmonics():
    tone = 0.4 / 32768 * np.sin(2 * np.pi * 1000 * np.arange(FRAMES) / 48_000)[:, None]
    kept = _shaped(tone)[:, 0] @ tone[:, 0] / (tone[:, 0] @ tone[:, 0]) / 32768
    assert kept == pytest.approx(1.0, abs=0.02)


def test_shaping_does_not_depend_on_the_size_of_blocks():
    signal = signals.noise(0.5, seed=4)
    assert np.array_equal(_shaped(signal), _shaped(signal, block=777))


def test_shaping_holds_at_full_scale_and_settles_again():
    loud = np.full((4_000, 1), 1.5)
    codes = _shaped(np.concatenate((loud, np.zeros((48_000, 1)))))
    assert (codes[100:4_000] == 32767).mean() > 0.9
    assert np.abs(codes[8_000:]).max() <= most_steps("shaped", 48_000)


def test_digital_silence_is_dithered_too():
    assert _shaped(np.zeros((4_800, 2))).any()


def test_the_seed_comes_from_the_contents_alone(tmp_path):
    """Stems that begin and end alike get another dither: equal noise would add up in their sum."""
    take = signals.programme(20, RATE, seed=3)
    stem = take.copy()
    stem[9 * RATE : 11 * RATE] *= 0.5
    paths = [
        signals.write(tmp_path / f"{name}.wav", audio) for name, audio in (("a", take), ("b", take), ("stem", stem))
    ]
    first, again, other = map(seed_of, paths)
    assert first == again
    assert first != other
    assert 0 <= first < 2**64


def test_a_file_of_a_few_bytes_has_a_seed(tmp_path):
    for name, contents in (("one", b"x"), ("other", b"y")):
        (tmp_path / name).write_bytes(contents)
    assert seed_of(tmp_path / "one") != seed_of(tmp_path / "other")
