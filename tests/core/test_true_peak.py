"""True peak against the EBU's cases, a 64× band-limited truth, and its plain twin."""

import numpy as np
import pytest

from nicelevel.core.measure.true_peak import TruePeakMeter, interpolator
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


@pytest.mark.parametrize("kind", ["near_nyquist", "click", "noise", "harmonic"])
def test_true_peak_is_near_the_band_limited_truth(kind):
    """Content up to 0.45 of the rate; the rate itself does not enter."""
    period = _periodic(kind)
    meter = TruePeakMeter(1)
    ramp = np.minimum(1.0, np.arange(5 * len(period)) / len(period))
    meter.feed((np.tile(period, 5) * ramp * ramp[::-1])[None, :])
    found = meter.peaks_dbtp()[0]
    truth = db_from_ratio(plain.band_limited_peak(period))
    assert truth - UNDER_DB <= found <= truth + OVER_DB


@pytest.mark.parametrize("kind", ["near_nyquist", "click", "noise", "harmonic"])
def test_passing_over_stretches_changes_nothing(kind):
    signal = _periodic(kind)
    meter = TruePeakMeter(1)
    meter.feed(signal[None, :])
    assert meter.peaks_dbtp()[0] == pytest.approx(db_from_ratio(plain.true_peak(signal)), abs=1e-4)


@pytest.mark.parametrize("frames", [1, 2, 63, 64, 65, 1000])
def test_tiny_signals_equal_the_plain_twin(frames):
    signal = signals.noise(1, rate=frames, channels=1, seed=frames)
    meter = TruePeakMeter(1)
    meter.feed(signal.T)
    assert meter.peaks_dbtp()[0] == pytest.approx(db_from_ratio(plain.true_peak(signal[:, 0])), abs=1e-4)


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
