"""Resampling as it is rendered: flat, without images, not shifted; by tones whose place and level are known."""

import numpy as np
import pytest
import soundfile

from nicelevel.core.process import process
from nicelevel.core.specs import parse_spec
from tests import signals

PAIRS = [(96_000, 48_000), (48_000, 44_100), (44_100, 48_000), (48_000, 16_000), (44_100, 16_000)]
SECONDS = 3.0
EDGE_S = 0.3


def _resampled(folder, signal, from_hz, to_hz):
    path = signals.write(folder / "in.wav", signal, from_hz, "DOUBLE")
    spec = parse_spec(
        '[spec]\nname = "House"\n[[formats]]\ncontainer = "wav"\nencoding = "float_64"\n'
        f'sample_rate = {to_hz}\n[output]\nname = "out"\n',
        "house",
    )
    (done,) = process(path, spec, folder, replace=True)
    return soundfile.read(done.path)[0]


def _fitted(signal, hz, rate):
    """Amplitude and phase of a tone in the middle of a signal, by least squares."""
    time = np.arange(len(signal)) / rate
    inside = (time > EDGE_S) & (time < SECONDS - EDGE_S)
    basis = np.stack((np.sin(2 * np.pi * hz * time[inside]), np.cos(2 * np.pi * hz * time[inside])), axis=1)
    (sine, cosine), *_ = np.linalg.lstsq(basis, signal[inside], rcond=None)
    return np.hypot(sine, cosine), np.arctan2(cosine, sine)


@pytest.mark.parametrize(("from_hz", "to_hz"), PAIRS)
def test_it_is_flat_and_not_shifted_up_to_nine_tenths_of_the_band(tmp_path, from_hz, to_hz):
    for share in (0.01, 0.1, 0.3, 0.5, 0.7, 0.8, 0.9):
        hz = share * min(from_hz, to_hz) / 2
        written = _resampled(tmp_path, signals.sine(hz, -6, SECONDS, from_hz), from_hz, to_hz)
        assert len(written) == round(SECONDS * to_hz)
        amplitude, phase = _fitted(written, hz, to_hz)
        assert 20 * np.log10(amplitude) == pytest.approx(-6.0, abs=0.01)
        assert abs(phase) / (2 * np.pi * hz) * to_hz <= 0.01


@pytest.mark.parametrize(
    ("from_hz", "to_hz", "hz"),
    [(96_000, 48_000, 30_000), (48_000, 44_100, 23_000), (48_000, 16_000, 9_000), (44_100, 16_000, 9_000)],
)
def test_what_the_lower_rate_cannot_hold_leaves_nothing(tmp_path, from_hz, to_hz, hz):
    """A tone over half the new rate would fold down: 9 kHz to 7 kHz at 16 kHz."""
    written = _resampled(tmp_path, signals.sine(hz, 0.0, SECONDS, from_hz), from_hz, to_hz)
    inside = written[int(EDGE_S * to_hz) : -int(EDGE_S * to_hz)]
    assert 20 * np.log10(np.abs(inside).max()) <= -110.0


def test_no_image_above_the_old_band(tmp_path):
    """44.1 to 48 kHz: a tone of 21 kHz has an image at 23.1 kHz."""
    written = _resampled(tmp_path, signals.sine(21_000, 0.0, SECONDS, 44_100), 44_100, 48_000)
    image, _ = _fitted(written, 23_100, 48_000)
    assert 20 * np.log10(image) <= -110.0
