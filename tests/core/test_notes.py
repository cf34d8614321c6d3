"""Every note: one signal that has the fault, one near miss that has not."""

import numpy as np
import pytest
import soundfile

from nicelevel.core.measure import measure
from nicelevel.core.measure.spectrum import sixteenth_octaves, steep_edge_hz
from tests import signals

from .measuring import meter_signal

RATE = 48_000


def _faded(signal):
    """The same with an end that dies away, as finished programmes have."""
    tail = np.minimum(1.0, np.arange(len(signal))[::-1] / 4_800)
    return signal * tail[:, None]


def _noise(seconds=2.0, level_db=-23.0, channels=2, seed=0):
    return _faded(signals.noise(seconds, level_db, channels=channels, seed=seed))


def _then_silence(seconds):
    return np.concatenate((_noise(3), signals.silence(seconds)))


def _with_tick(level):
    signal = np.concatenate((signals.silence(0.2), _noise(2)))
    signal[3:6] = level
    return signal


def _with_hole(frames, value=0.0):
    signal = _noise(3)
    signal[60_000 : 60_000 + frames] = value
    return signal


def _copy(gain_db, other):
    left, right = _noise(2, seed=5).T
    return np.stack((left, signals.ratio(gain_db) * left + other * right), axis=1)


def _late(frames, other=0.0):
    """The right side says what the left one says, so many frames later, with something of its own."""
    left, own = _noise(3, seed=6).T
    return _faded(np.stack((left, np.roll(left, frames) + other * own), axis=1))


def _limited(drive_db):
    """Dense programme driven into a ceiling."""
    return _faded(np.clip(signals.noise(4, -20 + drive_db, seed=2), -0.5, 0.5))


def _between_samples(level_dbfs):
    return _faded(signals.sine(RATE / 4, level_dbfs, 1.0, phase_degrees=45.0))


_NOTED = {
    "digital_silence": (lambda: signals.silence(1), lambda: _noise(1, -90)),
    "too_short": (lambda: _noise(0.3), lambda: _noise(0.5)),
    "clipped": (lambda: _faded(np.clip(signals.noise(1, -3), -1, 1)), lambda: 0.9 * _faded(_limited(0))),
    "over_full_scale": (lambda: _faded(signals.sine(1000, 1, 0.5)), lambda: _faded(signals.sine(1000, -0.1, 0.5))),
    "inter_sample_over": (lambda: _between_samples(2.0), lambda: _between_samples(-0.1)),
    "dc": (lambda: _noise(1) + 0.002, lambda: _noise(1) + 0.0005),
    "one_sided": (lambda: _noise(1) * [1, 0], lambda: _noise(1) * [1, 0.02]),
    "inverted": (lambda: _copy(0, 0) * [1, -1], lambda: _copy(0, 0.1) * [1, -1]),
    "identical": (lambda: _copy(0, 0), lambda: _copy(0, 0.1)),
    "nearly_identical": (lambda: _copy(0, 0.003), lambda: _copy(0, 0.1)),
    "quieter_copy": (lambda: _copy(-3, 0), lambda: _copy(-3, 0.1)),
    "late_copy": (lambda: _late(480), lambda: _late(480, 0.5)),
    "dead_air_head": (lambda: _then_silence(2.5)[::-1], lambda: _then_silence(1.5)[::-1]),
    "dead_air_tail": (lambda: _then_silence(2.5), lambda: _then_silence(1.5)),
    "tick_at_head": (lambda: _with_tick(0.1), lambda: _with_tick(0.001)),
    "cut_tail": (lambda: signals.noise(2), lambda: _noise(2)),
    "silence_inside": (lambda: _with_hole(4_800), lambda: _with_hole(4_800, 1e-5)),
    "limiter_left_on": (lambda: _limited(12), lambda: _limited(0)),
    "layout_assumed": (lambda: _noise(1, channels=6), lambda: _noise(1, channels=2)),
    "layout_unknown": (lambda: _noise(1, channels=10), lambda: _noise(1, channels=6)),
}


@pytest.mark.parametrize("kind", ["hiss", "hum", "crosstalk"])
def test_a_side_that_carries_only_what_it_should_not_is_mute(kind):
    """41 dB under the programme; 39 dB under it, it is somebody's."""
    left = signals.noise(3, -20, seed=4)[:, 0]
    rest = {
        "hiss": signals.noise(3, -20, seed=9)[:, 1],
        "hum": signals.sine(50, -20, 3)[:, 0],
        "crosstalk": left,
    }[kind]
    rest = rest * np.sqrt((left**2).sum() / (rest**2).sum())
    for down_db, found in ((-41.0, "left_only"), (-39.0, "none")):
        reading = meter_signal(np.stack((left, rest * signals.ratio(down_db)), axis=1))
        assert reading.mono_kind == found
        assert ("one_sided" in _codes(reading)) == (found == "left_only")


def test_floating_point_over_full_scale_is_not_clipped_and_comes_back():
    """Where part of it is clipped, at whatever value, places and sentences say so of that part alone."""
    over = _faded(signals.sine(1000, 6, 2))
    assert "clipped" not in _codes(meter_signal(over))
    assert "turning it down brings it back" in meter_signal(over).notes[0].sentence
    over[60_000:61_000] = np.clip(over[60_000:61_000], -1.2, 1.2)
    clipped, passed = meter_signal(over).notes[:2]
    assert (clipped.code, passed.code) == ("clipped", "over_full_scale")
    assert clipped.places == ((1.25, 1.28),)
    assert "brings it back" not in passed.sentence


def _codes(reading):
    return [note.code for note in reading.notes]


@pytest.mark.parametrize("code", _NOTED)
def test_note_names_the_fault_and_spares_the_near_miss(code):
    faulty, near_miss = _NOTED[code]
    assert code in _codes(meter_signal(faulty()))
    assert code not in _codes(meter_signal(near_miss()))


def test_a_sound_programme_has_no_note_at_all():
    assert _codes(meter_signal(_noise(4), encoding="pcm_24")) == []


@pytest.mark.parametrize(
    ("frames", "words"), [(480, "right side is the left one, 10.00 ms"), (-24, "left side is the right one, 0.50 ms")]
)
def test_a_late_side_is_named_with_its_delay(frames, words):
    (late,) = [note for note in meter_signal(_late(frames)).notes if note.code == "late_copy"]
    assert words in late.sentence


@pytest.mark.parametrize("frames", [1, 2, 7, 48, 331, 1_200, 2_047, 2_399, 2_400, -1, -2_400])
def test_a_late_side_is_found_to_the_sample_up_to_50_ms(frames):
    """The delay in milliseconds has two decimals: a sample of 48 kHz is 0.02."""
    (late,) = [note for note in meter_signal(_late(frames)).notes if note.code == "late_copy"]
    assert f"{1000 * abs(frames) / RATE:.2f} ms" in late.sentence
    assert late.sentence.startswith("The right" if frames > 0 else "The left")


@pytest.mark.parametrize("frames", [0, 2_500, 4_000, -2_600])
def test_no_delay_and_one_of_more_than_50_ms_are_none(frames):
    assert "late_copy" not in _codes(meter_signal(_late(frames)))


def test_a_tone_out_of_phase_is_no_late_copy():
    tone = signals.sine(440, -20, 3)
    assert "late_copy" not in _codes(meter_signal(_faded(np.concatenate((tone, np.roll(tone, 20, axis=0)), axis=1))))


def test_places_of_inter_sample_overs_are_where_they_were_made():
    """Two bursts of a quarter-rate tone at 45 degrees, 1 dB over full scale between its samples."""
    signal = 0.1 * _noise(3)
    burst = signals.sine(RATE / 4, 1.0, 0.01, phase_degrees=45.0)
    for start in (48_000, 96_000):
        signal[start : start + len(burst)] = burst
    (over,) = [note for note in meter_signal(signal).notes if note.code == "inter_sample_over"]
    assert [place[0] for place in over.places] == [pytest.approx(1.0, abs=0.002), pytest.approx(2.0, abs=0.002)]
    assert all(end - start <= 0.013 for start, end in over.places)


def test_unused_bits_are_noted_and_twenty_of_twenty_four_are_not():
    for bits, codes in ((16, ["bits_unused"]), (20, [])):
        coarse = np.round(_noise(1) * 2 ** (bits - 1)) / 2 ** (bits - 1)
        assert _codes(meter_signal(coarse, encoding="pcm_24")) == codes


def test_places_of_a_hole_and_of_clipping_are_where_they_were_made():
    (hole,) = [note for note in meter_signal(_with_hole(4_800)).notes if note.code == "silence_inside"]
    assert hole.places == ((pytest.approx(1.25, abs=0.011), pytest.approx(1.35, abs=0.011)),)
    signal = _noise(3)
    signal[96_000:96_010] = 1.0
    (clipped,) = [note for note in meter_signal(signal).notes if note.code == "clipped"]
    assert clipped.places[0][0] == pytest.approx(2.0, abs=0.011)
    assert "20 samples clipped in 1 place" in clipped.sentence


@pytest.mark.parametrize("kbps_quality", [0.5, 0.9])
def test_a_lossless_file_with_a_lossy_past_is_recognised(tmp_path, kbps_quality):
    """Through an MP3 encoder and back; near misses: never encoded, or only dull."""
    signal = _noise(6, -20, seed=8)
    soundfile.write(tmp_path / "lossy.mp3", signal, RATE, format="MP3", compression_level=kbps_quality)
    decoded, _ = soundfile.read(tmp_path / "lossy.mp3", always_2d=True)
    assert "lossy_ancestry" in _codes(measure(signals.write(tmp_path / "past.wav", decoded)))
    assert "lossy_ancestry" not in _codes(measure(signals.write(tmp_path / "clean.wav", signal)))
    dull = np.cumsum(signal, axis=0)
    dull = _faded(0.5 * dull / np.abs(dull).max())
    assert "lossy_ancestry" not in _codes(measure(signals.write(tmp_path / "dull.wav", dull)))
    assert "lossy_ancestry" not in _codes(measure(tmp_path / "lossy.mp3"))


def test_the_edge_is_found_where_the_filter_ends():
    signal = signals.noise(3, channels=1, seed=1)
    spectrum = np.fft.rfft(signal[:, 0])
    spectrum[round(16_000 * len(signal) / RATE) :] = 0
    low_passed = np.fft.irfft(spectrum, len(signal))[:, None]
    assert steep_edge_hz(meter_signal(low_passed).curves.spectrum, RATE) == pytest.approx(16_000, abs=400)
    assert steep_edge_hz(meter_signal(signal).curves.spectrum, RATE) is None
    assert steep_edge_hz(np.empty(0, np.float32), RATE) is None


def test_spectrum_of_a_full_scale_sine_peaks_at_one():
    spectrum = meter_signal(signals.sine(46 * RATE / 8192, 0, 2)).curves.spectrum
    assert int(np.argmax(spectrum)) == 46
    assert spectrum.max() == pytest.approx(1.0, rel=0.01)


@pytest.mark.parametrize("hz", [50.0, 440.0, 9_000.0])
def test_a_tone_stands_in_its_sixteenth_of_an_octave_at_its_level(hz):
    bands = sixteenth_octaves(meter_signal(signals.sine(hz, -20, 3)).curves.spectrum, RATE)
    centre, level_db = max(bands, key=lambda band: band[1])
    assert abs(np.log2(centre / hz)) < 1.6 / 16
    # A Hann window spreads a tone over three bins, which at 50 Hz are wider than the band.
    assert level_db == pytest.approx(-20, abs=0.3 if hz > 300 else 7.5)


def test_white_noise_rises_by_three_decibels_an_octave_in_bands_of_equal_ratio():
    bands = dict(sixteenth_octaves(meter_signal(signals.noise(30, -20, seed=2)).curves.spectrum, RATE))
    levels = {hz: db for hz, db in bands.items() if 400 < hz < 16_000}
    slope, _ = np.polyfit(np.log2(list(levels)), list(levels.values()), 1)
    assert slope == pytest.approx(3.01, abs=0.15)
