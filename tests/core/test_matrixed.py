"""Fold-downs for matrixed playback (Lt/Rt): what is behind is turned by 90 degrees and goes into both, against each
other (common practice, from memory); the turning against sine and cosine.
"""

import numpy as np
import pytest
from scipy.signal import hilbert

from nicelevel.core.files import take_in
from nicelevel.core.specs import parse_spec
from nicelevel.core.stages import Turn
from nicelevel.core.steps.fold import Fold
from tests import signals

from .preparing import chain_of, made

RATE_HZ, HALF = 48_000, np.sqrt(0.5)
MATRIXED = Fold(layout="stereo", matrixed=True)


def _write(tmp_path, sound, rate_hz=RATE_HZ):
    return signals.write(tmp_path / "in.wav", sound, rate_hz, "DOUBLE")


def _turned(path, *channels):
    with take_in(path) as audio:
        return np.concatenate(list(Turn(audio.shape, channels).on(audio).blocks(1 << 14)))


@pytest.mark.parametrize("hz", [40, 100, 997, 5_000, 19_000])
def test_a_tone_comes_a_quarter_of_a_period_later_and_as_loud(tmp_path, hz):
    """Definition of the Hilbert transform: cosine becomes sine."""
    tone = signals.sine(hz, -6.0, 1.0, phase_degrees=90.0)
    found = _turned(_write(tmp_path, tone), 0)[:, 0]
    middle = slice(12_000, 36_000)
    assert found[middle] == pytest.approx(signals.sine(hz, -6.0, 1.0)[middle, 0], abs=0.002)


def test_noise_is_turned_as_scipy_turns_it_and_other_channels_stay(tmp_path):
    """scipy.signal.hilbert turns the other way about at once, over all of the file."""
    sound = signals.noise(2.0, channels=3, seed=4)
    found = _turned(_write(tmp_path, sound), 1)
    middle = slice(20_000, 76_000)
    theirs = hilbert(sound[:, 1]).imag
    assert np.array_equal(found[:, [0, 2]], sound[:, [0, 2]])
    assert np.sqrt(np.mean((found[middle, 1] - theirs[middle]) ** 2)) < 0.05 * np.std(theirs)


@pytest.mark.parametrize("seconds", [0.001, 0.05, 0.5, 3.0])
def test_any_size_of_blocks_and_any_window_give_the_same(tmp_path, seconds):
    path = _write(tmp_path, signals.noise(seconds, channels=2, seed=5))
    with take_in(path) as audio:
        shape = audio.shape
        whole = np.concatenate(list(Turn(shape, (1,)).on(audio).blocks(1 << 16)))
    assert len(whole) == shape.frames
    for size in (997, 4_096):
        with take_in(path) as audio:
            parts = np.concatenate(list(Turn(shape, (1,)).on(audio).blocks(size)))
        assert parts == pytest.approx(whole, abs=1e-12)
    with take_in(path) as audio:
        signal = Turn(shape, (1,)).on(audio)
        for first in (0, shape.frames // 3, shape.frames - 1):
            last = min(shape.frames, first + 700)
            assert signal.window(first, last) == pytest.approx(whole[first:last], abs=1e-12)
    with take_in(path) as audio:
        alone = np.concatenate(list(Turn(shape, (1,)).on(audio).only([1]).blocks(1 << 16)))
    assert alone == pytest.approx(whole[:, 1:], abs=1e-12)


def test_front_and_centre_are_as_ever_and_what_is_behind_lies_between_them_turned(tmp_path):
    tone = signals.sine(997, -12.0, 1.0, phase_degrees=90.0)[:, 0]
    middle = slice(12_000, 36_000)
    for channel, left, right in ((0, 1.0, 0.0), (1, 0.0, 1.0), (2, HALF, HALF), (3, 0.0, 0.0)):
        sound = np.zeros((RATE_HZ, 6))
        sound[:, channel] = tone
        found = made(_write(tmp_path, sound), MATRIXED)
        assert found == pytest.approx(np.stack((left * tone, right * tone), axis=1), abs=1e-7)
    turned = signals.sine(997, -12.0, 1.0)[:, 0]
    for channel in (4, 5):
        sound = np.zeros((RATE_HZ, 6))
        sound[:, channel] = tone
        found = made(_write(tmp_path, sound), MATRIXED)[middle]
        assert found == pytest.approx(HALF * np.stack((-turned, turned), axis=1)[middle], abs=0.001)


def test_what_is_behind_does_not_cancel_what_is_in_front(tmp_path):
    """The same everywhere: by plain addition against each other one side would lose; turned, both have as much."""
    tone = signals.sine(440, -20.0, 1.0)
    found = made(_write(tmp_path, np.repeat(tone, 6, axis=1)), MATRIXED)[12_000:36_000]
    powers = np.sqrt((found**2).mean(axis=0))
    front, behind = 1.0 + HALF, 2 * HALF
    assert powers == pytest.approx(np.sqrt((front**2 + behind**2) / 2) * 0.1, rel=0.005)


def test_it_is_said_what_it_is_for_and_without_surrounds_it_is_plain(tmp_path):
    path = _write(tmp_path, signals.programme(1, channels=6))
    assert chain_of(path, MATRIXED).words[0].endswith("a decoder finds the surrounds in it again.")
    plain = _write(tmp_path, signals.programme(1, channels=1))
    assert np.array_equal(made(plain, MATRIXED), made(plain, Fold(layout="stereo")))
    assert "matrixed" not in Fold(layout="stereo").model_dump(exclude_none=True)
    spec = parse_spec('[spec]\nname = "W"\n[channels]\nmatrixed = true\n[[formats]]\ncontainer = "wav"\n', "w")
    assert spec.channels.matrixed is True
