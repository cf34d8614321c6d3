"""Loudness alone is that of the whole meter, whatever the size of the blocks."""

import numpy as np
import pytest

from nicelevel.core.measure import measure
from nicelevel.core.measure.hop_energies import HopEnergies
from tests import signals


def _energies(sound, shape, size):
    meter = HopEnergies(shape)
    for first in range(0, len(sound), size):
        meter.feed(sound[first : first + size])
    return meter.values()


@pytest.mark.parametrize(("channels", "rate_hz"), [(1, 48_000), (2, 44_100), (2, 8_000), (6, 48_000), (3, 96_000)])
def test_energies_are_those_of_the_meter(tmp_path, channels, rate_hz):
    rng = np.random.default_rng(channels)
    sound = 0.2 * rng.standard_normal((round(2.345 * rate_hz), channels)) * np.linspace(0.01, 1, channels)
    sound[rate_hz // 2 : rate_hz] = 0.0
    reading = measure(signals.write(tmp_path / "sound.wav", sound, rate_hz, "DOUBLE"))
    found = _energies(sound, reading.source.shape, 10_000)
    expected = reading.curves.energies
    assert len(found) == len(expected)
    np.testing.assert_allclose(found, expected, rtol=1e-9, atol=1e-12)
    for size in (1, 441, 7_919) if rate_hz == 8_000 else (441, 7_919):
        np.testing.assert_array_equal(_energies(sound, reading.source.shape, size), found)


def test_where_there_is_less_than_a_hop_there_is_nothing(tmp_path):
    reading = measure(signals.write(tmp_path / "short.wav", np.full((100, 1), 0.1), 48_000))
    assert len(_energies(np.full((100, 1), 0.1), reading.source.shape, 64)) == 0
