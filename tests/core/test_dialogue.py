"""What is spoken by itself: synthetic voices over synthetic music from -20 to +20 LU; loudness by the reference meter
of the tests.
"""

import math

import numpy as np
import pytest

from nicelevel.core.channels import layout_from_count
from nicelevel.core.files import take_in
from nicelevel.core.speech import dialogue_of
from tests import episodes, reference, signals
from tests.signals import ratio
from tests.speech_and_music import KINDS, music, talk

RATE_HZ, SECONDS, SEED = episodes.RATE_HZ, 45, 31
"""A seed that the weights were not fitted to."""


def heard(path):
    with take_in(path) as audio:
        return dialogue_of(audio)


def found_in(tmp_path, sound, rate=RATE_HZ, **options):
    return heard(signals.write(tmp_path / "in.wav", sound, rate, options.pop("subtype", "DOUBLE")))


def _agreement(dialogue, said):
    """Shares of what is spoken that was found, and of what is not that was taken for it."""
    told = np.zeros(len(said), bool)
    for first_s, last_s in dialogue.places:
        told[round(first_s * RATE_HZ) : round(last_s * RATE_HZ)] = True
    spoken = said > 0.5
    return told[spoken].mean(), told[~spoken].mean()


@pytest.fixture(scope="module")
def spoken():
    return talk(SEED, SECONDS)


def test_speech_in_a_quiet_room_is_found_with_its_loudness(tmp_path, spoken):
    sound, said = spoken
    room = signals.noise(SECONDS, episodes.BASE_LUFS - 40.0, channels=1, seed=SEED)
    dialogue = found_in(tmp_path, sound + room)
    found, wrong = _agreement(dialogue, said)
    assert found > 0.95
    assert wrong < 0.25  # pauses of half a second are shorter than what is weighed
    assert dialogue.lufs == pytest.approx(reference.integrated_lufs(sound, RATE_HZ), abs=0.3)
    assert dialogue.share == pytest.approx(said.mean(), abs=0.1)


@pytest.mark.parametrize("kind", KINDS)
@pytest.mark.parametrize("over_db", [20.0, 10.0])
def test_speech_over_music_is_found_with_its_loudness(tmp_path, spoken, kind, over_db):
    """Music 10 dB down adds 0.4 dB (arithmetic)."""
    sound, said = spoken
    dialogue = found_in(tmp_path, sound + music(kind, SECONDS, SEED) * ratio(-over_db))
    found, wrong = _agreement(dialogue, said)
    assert found > 0.9
    assert wrong < 0.3
    assert dialogue.lufs == pytest.approx(reference.integrated_lufs(sound, RATE_HZ), abs=1.0)


@pytest.mark.parametrize("kind", KINDS)
def test_speech_as_loud_as_music_is_mostly_found(tmp_path, spoken, kind):
    sound, said = spoken
    found, wrong = _agreement(found_in(tmp_path, sound + music(kind, SECONDS, SEED)), said)
    assert found > 0.7
    assert wrong < 0.3


@pytest.mark.parametrize("kind", KINDS)
def test_music_is_no_speech_nor_is_what_nobody_could_follow(tmp_path, spoken, kind):
    played = music(kind, SECONDS, SEED)
    assert found_in(tmp_path, played).share < 0.05
    assert found_in(tmp_path, spoken[0] * ratio(-20.0) + played).share < 0.35


def test_music_that_stops_is_told_from_the_speech_that_follows(tmp_path, spoken):
    sound, _ = spoken
    dialogue = found_in(tmp_path, np.concatenate([music("strings", 20, SEED), sound, music("song", 20, SEED)]))
    assert dialogue.places[0][0] > 18.5
    assert dialogue.places[-1][1] < 20 + SECONDS + 1.5


@pytest.mark.parametrize("gain_db", [-35.0, 15.0])
def test_the_level_of_the_whole_changes_nothing_but_the_loudness(tmp_path, spoken, gain_db):
    sound = spoken[0] + music("sea", SECONDS, SEED) * ratio(-10.0)
    before, after = found_in(tmp_path, sound), found_in(tmp_path, sound * ratio(gain_db))
    assert after.places == before.places
    assert after.lufs == pytest.approx(before.lufs + gain_db, abs=0.05)


def test_the_voice_is_looked_for_in_the_centre_where_there_is_one(tmp_path, spoken):
    """5.1 with the voice in the centre and music as loud as it in front: the loudness is that of all of it."""
    sound, said = spoken
    played = music("song", SECONDS, SEED)
    mix = np.zeros((len(sound), 6))
    mix[:, [0, 1]], mix[:, 2] = played, sound[:, 0]
    path = signals.write(tmp_path / "in.wav", mix, RATE_HZ, "PCM_24")
    found, wrong = _agreement(heard(path), said)
    assert found > 0.95
    assert wrong < 0.25


@pytest.mark.parametrize("rate_hz", [8_000, 16_000, 44_100, 96_000])
def test_any_rate_tells_the_same(tmp_path, spoken, rate_hz):
    import soxr

    sound, said = spoken
    room = signals.noise(SECONDS, episodes.BASE_LUFS - 40.0, channels=1, seed=SEED)
    found, _ = _agreement(found_in(tmp_path, soxr.resample(sound + room, RATE_HZ, rate_hz), rate_hz), said)
    assert found > 0.9


def test_blocks_of_any_size_tell_the_same(tmp_path, spoken):
    from nicelevel.core.speech.voice_bands import VoiceBands
    from nicelevel.core.values import Shape

    sound = spoken[0][: 10 * RATE_HZ]
    told = []
    for size in (len(sound), 1_000, 48_001):
        bands = VoiceBands(Shape(RATE_HZ, layout_from_count(1), len(sound)))
        for first in range(0, len(sound), size):
            bands.feed(sound[first : first + size])
        told.append((bands.powers(), bands.flatness()))
    for powers, flatness in told[1:]:
        assert np.allclose(powers, told[0][0], rtol=1e-5)
        assert np.allclose(flatness, told[0][1], rtol=1e-5)


@pytest.mark.parametrize("seconds", [0.01, 0.3, 1.0, 5.0])
def test_what_is_short_or_silent_is_no_speech_and_no_error(tmp_path, seconds):
    for sound in (np.zeros((round(seconds * RATE_HZ), 2)), signals.sine(440, -20.0, seconds)):
        dialogue = found_in(tmp_path, sound)
        assert (dialogue.lufs, dialogue.share, dialogue.places) == (-math.inf, 0.0, ())
