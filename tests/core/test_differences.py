"""What differs between two versions, against what was done to them."""

import numpy as np
import pytest
import soxr

from nicelevel.core.hear.differences import differences_between
from tests import signals

RATE = 48_000
MUSIC = 0.3 * signals.programme(24, seed=8)
BEFORE = signals.band_limited(MUSIC, RATE)


def _differences(tmp_path, after, before=BEFORE, rate=RATE):
    older = signals.write(tmp_path / "older.wav", before, RATE)
    newer = signals.write(tmp_path / "newer.wav", after, rate)
    return differences_between(older, newer)


def _voice():
    """Something else that comes and goes, between 400 Hz and 3 kHz."""
    carrier = signals.noise(24, -20, seed=5)
    spectrum = np.fft.rfft(carrier, axis=0)
    hz = np.fft.rfftfreq(len(carrier), 1 / RATE)
    spectrum[(hz < 400) | (hz > 3000)] = 0.0
    time = np.arange(len(carrier)) / RATE
    return np.fft.irfft(spectrum, len(carrier), axis=0) * (np.sin(2 * np.pi * time / 4) > 0)[:, None]


def test_louder_alone(tmp_path):
    found = _differences(tmp_path, BEFORE * 10 ** (1.5 / 20))
    assert found.is_same
    assert found.gain_db == pytest.approx(1.5, abs=0.001)
    assert found.difference_db < -90.0
    assert (found.places, found.edits, found.is_inverted) == ((), (), False)


def test_polarity_turned_over(tmp_path):
    found = _differences(tmp_path, -BEFORE)
    assert (found.is_inverted, found.places) == (True, ())
    assert found.difference_db < -90.0


def test_a_voice_one_db_louder_is_found_with_its_band_and_its_places(tmp_path):
    """The voice is there in every second two seconds: what is more of it is 0.122 of it."""
    voice = _voice()
    before, after = BEFORE + voice, BEFORE + 10 ** (1 / 20) * voice
    found = _differences(tmp_path, after, before)
    truth_db = 10 * np.log10((((after - before) ** 2).sum()) / (after**2).sum())
    assert found.gain_db == pytest.approx(0.0, abs=0.01)
    assert found.difference_db == pytest.approx(truth_db, abs=0.2)
    loudest = max(found.bands, key=lambda band: band.level_db)
    assert 300 <= loudest.low_hz < 3000
    assert 0.5 < loudest.level_db < 1.05
    assert [round(first) for first, _ in found.places] == [0, 4, 8, 12, 16, 20]
    assert [round(last) for _, last in found.places] == [2, 6, 10, 14, 18, 22]


def test_a_mix_that_differs_by_much_throughout_says_by_how_much(tmp_path):
    other = signals.band_limited(signals.programme(24, seed=77), RATE)
    other *= np.sqrt((BEFORE**2).sum() / (other**2).sum()) * 10 ** (-7.8 / 20)
    found = _differences(tmp_path, BEFORE + other)
    left = BEFORE + other - 10 ** (found.gain_db / 20) * BEFORE
    truth_db = 10 * np.log10((left**2).sum() / ((BEFORE + other) ** 2).sum())
    assert found.is_same
    assert found.difference_db == pytest.approx(truth_db, abs=0.2)
    assert -9.5 < found.difference_db < -7.0
    assert found.usual_db > -20.0


def test_a_word_that_is_missing_has_its_length(tmp_path):
    after = BEFORE.copy()
    first, last = round(7.3 * RATE), round(8.2 * RATE)
    after[first:last] = 0.0
    found = _differences(tmp_path, after)
    ((begin, end),) = found.places
    assert begin == pytest.approx(7.3, abs=0.06)
    assert end == pytest.approx(8.2, abs=0.06)


@pytest.mark.parametrize("by_s", [0.9, -0.9, 5.0, -12.0])
def test_time_put_in_or_taken_out(tmp_path, by_s):
    at, frames = 9 * RATE, round(abs(by_s) * RATE)
    before = signals.band_limited(0.3 * signals.programme(40, seed=8), RATE)
    more = signals.noise(abs(by_s), -20, seed=1)[:frames]
    if by_s > 0:
        after = np.concatenate([before[:at], more, before[at:]])
    else:
        after = np.delete(before, slice(at, at + frames), 0)
    found = _differences(tmp_path, after, before)
    (edit,) = found.edits
    assert edit.by_s == pytest.approx(by_s, abs=1e-6)
    assert edit.at_s == pytest.approx(9.0, abs=0.01)
    assert found.places == ()
    assert found.difference_db < -60.0


def test_another_rate_is_no_difference(tmp_path):
    after = soxr.resample(BEFORE, RATE, 44_100, "VHQ")
    found = _differences(tmp_path, after, rate=44_100)
    assert found.is_same
    assert found.difference_db < -60.0
    assert found.places == ()


def test_a_small_change_of_one_band_is_found_where_it_is(tmp_path):
    """4 dB more above 6 kHz for three seconds: little beside the whole."""
    spectrum = np.fft.rfft(BEFORE, axis=0)
    spectrum[np.fft.rfftfreq(len(BEFORE), 1 / RATE) > 6000] *= 10 ** (4 / 20)
    bright = np.fft.irfft(spectrum, len(BEFORE), axis=0)
    after = BEFORE.copy()
    after[10 * RATE : 13 * RATE] = bright[10 * RATE : 13 * RATE]
    found = _differences(tmp_path, after)
    assert found.places[0][0] == pytest.approx(10.0, abs=0.3)
    assert found.places[-1][1] == pytest.approx(13.0, abs=0.3)


def test_dither_and_rounding_are_no_difference(tmp_path):
    older = signals.write(tmp_path / "older.wav", BEFORE, RATE)
    newer = signals.write(tmp_path / "newer.wav", BEFORE + signals.noise(24, -92, seed=2), RATE, "PCM_16")
    found = differences_between(older, newer)
    assert found.places == ()
    assert found.difference_db < -50.0


def test_another_recording_is_not_compared_sample_by_sample(tmp_path):
    assert not _differences(tmp_path, signals.programme(24, seed=99)).is_same
    assert not _differences(tmp_path, signals.silence(3)).is_same
    assert not _differences(tmp_path, BEFORE, signals.silence(3)).is_same


def test_one_channel_against_two(tmp_path):
    found = _differences(tmp_path, BEFORE[:, :1], np.repeat(BEFORE[:, :1], 2, axis=1))
    assert found.is_same
    assert found.difference_db < -90.0
