"""The numbers of single steps, to the sample."""

import numpy as np
import pytest

from nicelevel.core.errors import EmptyError
from nicelevel.core.files import take_in
from nicelevel.core.steps.fade import Fade
from nicelevel.core.steps.gain import Gain
from nicelevel.core.steps.silence import Silence
from nicelevel.core.steps.trim import Trim
from tests import signals

from .preparing import chain_of, made

RATE_HZ = 48_000


def _write(tmp_path, sound):
    return signals.write(tmp_path / "take.wav", sound, RATE_HZ, "DOUBLE")


def test_a_gain_is_a_ratio_of_amplitudes(tmp_path):
    """Arithmetic: -6.0206 dB is half."""
    path = _write(tmp_path, signals.programme(1))
    assert made(path, Gain(db=20 * np.log10(0.5))) == pytest.approx(0.5 * made(path), rel=1e-14)


@pytest.mark.parametrize(
    ("where", "first", "last"), [("both", 1_000, 9_001), ("head", 1_000, 12_000), ("tail", 0, 9_001)]
)
@pytest.mark.parametrize("keep_s", [0.0, 0.01])
def test_trim_ends_where_any_channel_reaches_the_threshold(tmp_path, where, first, last, keep_s):
    """-60 dBFS is 0.001 exactly; what reaches it stays, what is a little less goes."""
    sound = np.zeros((12_000, 2))
    sound[[500, 11_000], 0] = 0.0009999
    sound[1_000, 1], sound[9_000, 0] = -0.001, 0.5
    path, kept = _write(tmp_path, sound), round(keep_s * RATE_HZ)
    first, last = max(0, first - kept), min(12_000, last + kept)
    assert np.array_equal(made(path, Trim(where=where, keep_s=keep_s)), sound[first:last])


def test_what_is_silent_has_nothing_left_when_it_is_trimmed(tmp_path):
    with pytest.raises(EmptyError, match="Nothing in it reaches -60 dBFS"):
        chain_of(_write(tmp_path, signals.silence(1.0)), Trim())


@pytest.mark.parametrize("frames", [1, 997, 1 << 20])
def test_silence_is_digital_and_exactly_as_long(tmp_path, frames):
    """Halves of frames round up."""
    sound = signals.programme(0.5)
    found = made(_write(tmp_path, sound), Silence(head_s=1_000.5 / RATE_HZ, tail_s=0.02), frames=frames)
    assert np.array_equal(found, np.concatenate([np.zeros((1_001, 2)), sound, np.zeros((960, 2))]))


def test_much_silence_takes_no_memory(tmp_path):
    """A day of it is given in blocks of the size that was asked for."""
    path = _write(tmp_path, signals.programme(0.1))
    with take_in(path) as audio:
        blocks = chain_of(path, Silence(head_s=80_000.0, tail_s=6_400.0)).on(audio).blocks(1 << 16)
        assert [len(next(blocks)) for _ in range(3)] == [1 << 16] * 3


@pytest.mark.parametrize(
    ("shape", "middle"), [("linear", 0.5), ("cosine", 0.5), ("concave", np.sqrt(0.5)), ("convex", 1 - np.sqrt(0.5))]
)
def test_fades_have_their_shape_and_the_end_mirrors_the_beginning(tmp_path, shape, middle):
    """Formulas of the recipe's grammar at the middle of every frame; the middle of the fade by hand."""
    path = _write(tmp_path, np.ones((10_001, 1)))
    found = made(path, Fade(in_s=2_001 / RATE_HZ, out_s=2_001 / RATE_HZ, shape=shape))[:, 0]
    assert found[1_000] == pytest.approx(middle, abs=1e-12)
    assert np.all(found[2_001:8_000] == 1.0)
    assert found[:2_001] == pytest.approx(found[:-2_002:-1], abs=1e-12)
    assert np.all(np.diff(found[:2_001]) > 0.0)
    assert 0.0 < found[0] < 0.001


def test_fades_longer_than_the_file_are_shortened_in_proportion(tmp_path):
    """3 s in and 1 s out of 2 s: 1.5 s and 0.5 s (arithmetic)."""
    path = _write(tmp_path, np.ones((2 * RATE_HZ, 1)))
    found = made(path, Fade(in_s=3.0, out_s=1.0, shape="linear"))[:, 0]
    assert found.argmax() in (round(1.5 * RATE_HZ) - 1, round(1.5 * RATE_HZ))
    assert found[round(0.75 * RATE_HZ)] == pytest.approx(0.5, abs=1e-4)
    assert found[round(1.75 * RATE_HZ)] == pytest.approx(0.5, abs=1e-4)
    assert chain_of(path, Fade(in_s=3.0, out_s=1.0)).words == ("Faded in over 1.5 s and out over 0.5 s.",)


def test_a_trim_moves_the_places_that_are_marked(tmp_path):
    sound = np.concatenate([signals.silence(1.0), signals.both(signals.sine(440, -6.0, 1.0))])
    timeline = chain_of(_write(tmp_path, sound), Trim(where="head"), Silence(head_s=0.25)).timeline
    assert timeline.to_output(0.5) is None
    assert float(timeline.to_output(1.5)) == pytest.approx(0.75, abs=1e-4)
    assert float(timeline.origin_s) == pytest.approx(0.75, abs=1e-4)
