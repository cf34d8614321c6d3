"""The true peak of every millisecond, against tones of known height and a reference of 64 points per sample."""

import numpy as np
import pytest
import scipy.signal

from nicelevel.core.measure import measure
from nicelevel.core.measure.envelope import LOWEST_DB, STEPS_PER_DB
from nicelevel.core.measure.hop_files import open_hops
from nicelevel.core.measure.hop_peaks import KEPT_DB
from tests import signals

TIMES = 64
CODE_DB = 1 / STEPS_PER_DB


def _hop_peaks_db(folder, signal, rate, subtype="PCM_24"):
    path = signals.write(folder / "signal.wav", signal, rate, subtype)
    measure(path, hops_folder=folder)
    return open_hops(folder).true_peaks / STEPS_PER_DB + LOWEST_DB


@pytest.mark.parametrize("rate", [44_100, 48_000, 96_000])
@pytest.mark.parametrize("of_rate", [0.05, 0.123, 0.25, 0.333, 0.4, 0.45])
def test_a_tone_has_its_height_in_every_hop(tmp_path, rate, of_rate):
    """Exact to 0.01 dB up to 0.45 of the rate; a code is rounded up by 0.003 dB at most (arithmetic)."""
    tone = signals.both(signals.sine(of_rate * rate, -6.0, 1.0, rate, 31.0))
    found = _hop_peaks_db(tmp_path, tone, rate)[20:-20]
    assert found.min() >= -6.0 - 0.01
    assert found.max() <= -6.0 + 0.01 + CODE_DB


def test_noise_has_the_peaks_of_the_band_limited_truth(tmp_path):
    """Each hop by itself: its peak may lie just over its border, so those beside it count too."""
    rate = 48_000
    noise = signals.band_limited(signals.noise(1.0, -12.0, rate, channels=1, seed=5), rate)
    found = _hop_peaks_db(tmp_path, noise, rate)
    fine = np.abs(scipy.signal.resample(noise[:, 0], TIMES * len(noise)))
    per_hop = rate // 1000 * TIMES
    truth_db = 20 * np.log10(fine[: len(fine) // per_hop * per_hop].reshape(-1, per_hop).max(axis=1))
    inner = slice(20, len(truth_db) - 20)
    nearby = np.maximum(np.maximum(found[:-2], found[1:-1]), found[2:])
    assert (nearby[inner] >= truth_db[1:-1][inner] - 0.05).all()
    assert np.median(np.abs(found[inner] - truth_db[inner])) < 0.02


def test_far_under_the_highest_the_samples_stand_for_the_wave(tmp_path):
    """A soft tone whose samples miss its top by 3.01 dB has it where it is alone, and not beside a loud one."""
    rate = 48_000
    soft = signals.both(signals.sine(rate / 4, -6.0 - KEPT_DB - 12.0, 0.5, rate, 45.0))
    loud = signals.both(signals.sine(997, -6.0, 0.5, rate))
    alone = _hop_peaks_db(tmp_path, soft, rate)[100:400]
    beside = _hop_peaks_db(tmp_path, np.concatenate([loud, soft]), rate)[600:900]
    assert alone == pytest.approx(-42.0, abs=0.01)
    assert beside == pytest.approx(-45.01, abs=0.01)
