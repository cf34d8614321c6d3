"""True peak against the EBU's cases, a 64× band-limited truth, and its plain twin."""

import numpy as np
import pytest

from nicelevel.core.measure.true_peak import interpolator
from nicelevel.core.units import db_from_ratio
from tests import plain, signals, truths

from .measuring import meter_signal

OVER_DB, UNDER_DB = 0.05, 0.1


@pytest.mark.parametrize("case", truths.TRUE_PEAKS)
def test_true_peak_of_ebu_case(case):
    make, expected, own = truths.TRUE_PEAKS[case]
    found = meter_signal(make()).true_peak_dbtp
    assert expected - truths.TRUE_PEAK_UNDER_DB <= found <= expected + truths.TRUE_PEAK_OVER_DB
    assert found == pytest.approx(own, abs=truths.OWN_TRUE_PEAK_DB)


def test_quarter_rate_at_45_degrees_peaks_3_01_db_over_its_samples():
    """Arithmetic: the samples fall at ±0.7071 of the amplitude."""
    reading = meter_signal(truths.TRUE_PEAKS["3341-16"][0]())
    assert reading.true_peak_dbtp - reading.sample_peak_dbfs == pytest.approx(3.01, abs=0.02)


def _periodic(kind: str, frames: int = 4096) -> np.ndarray:
    """Signals that repeat exactly, so that their band-limited waveform is known everywhere."""
    generator = np.random.default_rng(len(kind))
    bins = np.zeros(frames // 2 + 1, complex)
    top = int(0.45 * frames)
    if kind == "near_nyquist":
        bins[top] = frames / 3 * np.exp(1j * 0.7)
    elif kind == "click":
        bins[1:top] = np.exp(-2j * np.pi * np.arange(1, top) * 100.37 / frames)
    elif kind == "noise":
        bins[1:top] = generator.standard_normal(top - 1) + 1j * generator.standard_normal(top - 1)
    else:
        harmonics = np.arange(31, top, 31)
        bins[harmonics] = frames / harmonics * np.exp(1j * generator.uniform(0, 6.28, len(harmonics)))
    signal = np.fft.irfft(bins, frames)
    return signal / np.abs(signal).max() * 0.7


KINDS = ["near_nyquist", "click", "noise", "harmonic"]
RATES = [8_000, 11_025, 16_000, 22_050, 32_000, 44_100, 48_000, 88_200, 96_000, 192_000]


@pytest.mark.parametrize("rate", RATES)
@pytest.mark.parametrize("kind", KINDS)
def test_true_peak_is_near_the_band_limited_truth(kind, rate):
    """Content up to 0.45 of the rate, repeated until a second is full; faded, so that its ends ring nowhere."""
    period = _periodic(kind)
    repeats = max(5, rate // len(period))
    ramp = np.minimum(1.0, np.arange(repeats * len(period)) / len(period))
    signal = np.tile(period, repeats) * ramp * ramp[::-1]
    truth = db_from_ratio(plain.band_limited_peak(period))
    assert truth - UNDER_DB <= meter_signal(signal[:, None], rate).true_peak_dbtp <= truth + OVER_DB


@pytest.mark.parametrize("kind", KINDS)
def test_passing_over_hops_changes_nothing(kind):
    signal = _periodic(kind)
    assert meter_signal(signal[:, None]).true_peak_dbtp == pytest.approx(
        db_from_ratio(plain.true_peak(signal)), abs=1e-4
    )


@pytest.mark.parametrize("frames", [1, 2, 63, 64, 65, 1000])
@pytest.mark.parametrize("rate", [8_000, 48_000])
def test_tiny_signals_equal_the_plain_twin(frames, rate):
    signal = signals.noise(1, rate=frames, channels=1, seed=frames)
    truth = db_from_ratio(plain.true_peak(signal[:, 0]))
    assert meter_signal(signal, rate).true_peak_dbtp == pytest.approx(truth, abs=1e-4)


@pytest.mark.parametrize("at_s", [31.999, 32.0, 32.0001, 31.95, 31.9])
def test_a_peak_where_two_blocks_meet_is_found(at_s):
    """The meter gathers 32 s of two channels at this rate; the filter reaches over what comes after."""
    signal = signals.silence(34, channels=2, rate=8_000)
    middle = round(at_s * 8_000)
    signal[middle : middle + 2] = 0.5
    truth = db_from_ratio(plain.true_peak(signal[middle - 200 : middle + 200, 0]))
    assert meter_signal(signal, 8_000).true_peak_dbtp == pytest.approx(truth, abs=1e-4)


def test_silence_has_no_true_peak():
    assert meter_signal(signals.silence(0.5)).true_peak_dbtp == -np.inf


def test_each_channel_has_its_own():
    reading = meter_signal(np.concatenate((signals.sine(500, -6, 1), signals.sine(500, -20, 1)), axis=1))
    assert reading.true_peak_per_channel_dbtp == pytest.approx((-6, -20), abs=0.01)


def test_interpolator_passes_the_band_flat():
    """Within 0.01 dB up to 0.45 of the rate, 70 dB down where the images lie."""
    prototype = np.abs(np.fft.rfft(interpolator()[:, ::-1].T.ravel(), 1 << 16)) / 16
    frequency = np.linspace(0, 8, len(prototype))
    assert 20 * np.log10(prototype[frequency < 0.45]) == pytest.approx(0.0, abs=0.01)
    assert 20 * np.log10(prototype[frequency > 0.56].max()) < -70
