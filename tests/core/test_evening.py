"""Evening of speech, held to what its grammar promises; loudness by a reference library."""

import itertools

import numpy as np
import pytest
import soxr

from nicelevel.core.steps.even import Even
from tests import episodes, reference, signals

from .preparing import chain_of, made

RATE_HZ = episodes.RATE_HZ
HOP = RATE_HZ // 100
WITHIN_LU = {"strong": 1.0, "medium": 2.0, "light": 4.0}

EPISODES = {
    "pauses and changes without one": (
        [0, -12, 6, -6, 12, -9, 3, 9, -3, -12],
        [0.5, 1.2, 0, 1.0, 0, 1.5, 0, 0.7, 0, 2.0],
    ),
    "no pause": ([0, 6, -6, 3, -3, 9, 0, -9, -3, 3], [0.5, *[0] * 9]),
    "sudden onsets": ([-12, 12, -12, 12, -6, 12, 0, 12, -12, 12], [0.2, 0, 1.0, 0, 1.5, 0, 0, 0, 2.0, 0.6]),
}


def _loudness(sound):
    return reference.integrated_lufs(sound, RATE_HZ)


@pytest.fixture(scope="module", params=EPISODES, ids=str)
def taken(request, tmp_path_factory):
    """A conversation, its passages, and a file of it."""
    sound, places = episodes.episode(*EPISODES[request.param])
    path = signals.write(tmp_path_factory.mktemp("even") / "episode.wav", sound, RATE_HZ, "DOUBLE")
    return sound, places, path


@pytest.fixture(scope="module", params=["strong", "light"])
def evened(request, taken):
    """The same with what it becomes, and the gain of each 10 ms in dB."""
    sound, places, path = taken
    found = made(path, Even(amount=request.param), frames=1 << 16)
    frames = len(sound) // HOP * HOP
    powers = [np.square(each[:frames]).reshape(-1, HOP).sum(axis=1) for each in (found, sound)]
    return sound, places, found, 10 * np.log10(powers[0] / powers[1]), WITHIN_LU[request.param]


def test_every_passage_comes_as_near_to_the_whole_as_is_promised(evened):
    sound, places, found, _, within_lu = evened
    was, now = _loudness(sound), _loudness(found)
    for place in places:
        assert _loudness(found[place]) == pytest.approx(was, abs=within_lu)
        assert _loudness(found[place]) == pytest.approx(now, abs=within_lu)


def test_the_gain_moves_by_no_more_than_6_db_a_second_while_somebody_speaks(evened):
    _, places, _, gains_db, _ = evened
    for place in places:
        inside = gains_db[place.start // HOP + 1 : place.stop // HOP - 1]
        assert np.abs(inside[25:] - inside[:-25]).max() * 4 <= 6.0


def test_pauses_never_pump(evened):
    """From 0.4 s into a pause of a second and more the gain is never above the lower one beside it."""
    _, places, _, gains_db, _ = evened
    for before, after in itertools.pairwise(places):
        if after.start - before.stop >= RATE_HZ:
            lower_db = min(gains_db[before.stop // HOP - 2], gains_db[after.start // HOP + 2])
            assert gains_db[before.stop // HOP + 40 : after.start // HOP].max() <= lower_db + 0.15


def test_a_loud_onset_does_not_stick_out(evened):
    """Its first 300 ms pass the level that it has two seconds on by 2 dB at most, by the gain."""
    _, places, _, gains_db, _ = evened
    for place in places:
        first = place.start // HOP + 1
        assert gains_db[first : first + 30].max() <= gains_db[first + 200 : first + 400].max() + 2.0


def test_the_length_stays_and_all_channels_get_the_same(tmp_path):
    one, _ = episodes.episode([0, -9], [0.5, 0.7])
    sound = np.concatenate([one, 0.3 * one], axis=1)
    found = made(signals.write(tmp_path / "two.wav", sound, RATE_HZ, "DOUBLE"), Even(amount="strong"))
    assert found.shape == sound.shape
    assert found[:, 1] == pytest.approx(0.3 * found[:, 0], abs=1e-12)


def test_what_is_even_is_left(tmp_path):
    sound, _ = episodes.episode([0] * 6, [0.5, 1.2, 0, 1.0, 0, 1.5])
    found = made(signals.write(tmp_path / "even.wav", sound, RATE_HZ, "DOUBLE"), Even(amount="strong"))
    assert np.abs(20 * np.log10(np.abs(found).max() / np.abs(sound).max())) < 1.0
    assert np.abs(found / sound - 1.0).max() < 0.12  # 1 dB


NO_SPEECH = {
    "a steady tone": lambda: signals.sine(440, -20, 30),
    "a tone in steps": lambda: signals.tone_steps([(-20, 10), (-35, 10), (-14, 10)]),
    "noise": lambda: signals.noise(30, -25),
    "noise in steps": lambda: np.concatenate([signals.noise(10, level_db) for level_db in (-20, -36, -14)]),
    "silence": lambda: signals.silence(20),
    "a click in silence": lambda: np.concatenate([signals.silence(5), np.full((10, 2), 0.9), signals.silence(5)]),
    "less than a second": lambda: signals.noise(0.5),
}


@pytest.mark.parametrize("name", NO_SPEECH)
def test_without_speech_nothing_changes(tmp_path, name):
    path = signals.write(tmp_path / "none.wav", NO_SPEECH[name](), RATE_HZ, "DOUBLE")
    chain = chain_of(path, Even(amount="strong"))
    assert chain.is_nothing
    assert chain.done[0].words == "There was nothing to even out: no speech, or even already."


def test_the_level_of_the_file_does_not_matter(tmp_path):
    """What is found is a matter of differences: 10 dB down, the gains are the same; the absolute gate is far off."""
    sound, _ = episodes.episode([0, 10, -8], [0.5, 0, 1.2])
    paths = [
        signals.write(tmp_path / f"{level_db}.wav", signals.ratio(level_db) * sound, RATE_HZ, "DOUBLE")
        for level_db in (0, -10)
    ]
    one, other = (chain_of(path, Even(amount="medium")).done[0].found.gains_db for path in paths)
    assert np.abs(one - other).max() < 0.01


@pytest.mark.parametrize("rate_hz", [8_000, 22_050, 96_000])
def test_at_other_rates_too(tmp_path, rate_hz):
    sound, places = episodes.episode([0, 10, -8], [0.5, 0, 1.2])
    at_rate = soxr.resample(sound, RATE_HZ, rate_hz)
    path = signals.write(tmp_path / "rate.wav", at_rate, rate_hz, "DOUBLE")
    found = made(path, Even(amount="strong"))
    levels = [
        reference.read(
            found[place.start * rate_hz // RATE_HZ : place.stop * rate_hz // RATE_HZ], rate_hz
        ).integrated_lufs
        for place in places
    ]
    assert max(levels) - min(levels) < 2.0
