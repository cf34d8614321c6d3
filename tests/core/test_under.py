"""What lies under a frequency, from the low band alone, against scipy on the audio itself."""

import numpy as np
import pytest
from scipy import signal as dsp

from nicelevel.core.measure import measure
from nicelevel.core.measure.hop_files import open_hops
from nicelevel.core.prepare.under import level_under
from tests import signals

RATE_HZ = 48_000


def _low_band(folder, sound, rate_hz=RATE_HZ):
    measure(signals.write(folder / "sound.wav", sound, rate_hz), hops_folder=folder)
    return open_hops(folder).low_band


def _db(levels):
    return 10.0 * np.log10(np.mean(np.square(levels)))


@pytest.mark.parametrize(("hz", "order"), [(40.0, 2), (80.0, 1), (80.0, 2), (80.0, 4), (120.0, 3)])
def test_it_is_what_a_low_pass_lets_through(tmp_path, hz, order):
    """Within a decibel of Butterworth's low-pass of the same order by scipy, whatever lies above."""
    rng = np.random.default_rng(1)
    rumble = dsp.sosfilt(dsp.butter(2, 60, fs=RATE_HZ, output="sos"), rng.standard_normal(6 * RATE_HZ))
    voice = dsp.sosfilt(dsp.butter(4, 500, "highpass", fs=RATE_HZ, output="sos"), rng.standard_normal(6 * RATE_HZ))
    sound = 0.05 * rumble / rumble.std() + 0.1 * voice
    truth = dsp.sosfilt(dsp.butter(order, hz, fs=RATE_HZ, output="sos"), sound)
    found = level_under(_low_band(tmp_path, sound[:, None]), hz, order)
    assert len(found) == 600
    assert _db(found) == pytest.approx(_db(truth), abs=1.0)


def test_of_channels_it_is_the_one_that_has_most(tmp_path):
    at_s = np.arange(2 * RATE_HZ) / RATE_HZ
    hum = np.sin(2 * np.pi * 40 * at_s)
    both = np.stack([0.001 * hum, 0.1 * hum], axis=1)
    found = level_under(_low_band(tmp_path, both), 80.0, 2)
    assert _db(found[50:]) == pytest.approx(-23.0, abs=0.8)  # a sine of -20 dB, hardly less for a corner an octave up


def test_where_the_band_does_not_reach_nothing_is_said(tmp_path):
    assert level_under(_low_band(tmp_path, np.zeros((RATE_HZ, 1))), 400.0, 2) is None
    assert level_under(np.zeros((5, 1), np.int16), 80.0, 2) is None
    assert not level_under(np.zeros((5_000, 1), np.int16), 80.0, 2).any()
