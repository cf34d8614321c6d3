"""Plans: as it is, gain, cannot meet; and that what is predicted is what is measured."""

import math

import numpy as np
import pytest

from nicelevel.core.plan import plan
from nicelevel.core.plan.gain import gain_range
from nicelevel.core.prepare import prepare
from nicelevel.core.specs import parse_spec, shipped_specs
from tests import signals

from .measuring import all_planned, as_it_is, meter_signal, planned

FORMAT = '[[formats]]\ncontainer = "wav"\nencoding = "pcm_24"\n'


def _spec(text, formats=FORMAT):
    return parse_spec(f'[spec]\nname = "House"\n{text}\n{formats}', "house")


def _bump(signal, level_dbfs):
    """One smooth peak of 4 ms: too short to count in the loudness, without overshoot between its samples."""
    signal[100_000:100_201] = 10 ** (level_dbfs / 20) * np.hanning(201)[:, None]


BROADCAST = "[loudness]\ntarget = -23\ntolerance = 0.5\n[limits]\nmax_true_peak_dbtp = -1\n"


def test_what_already_lands_is_left_as_it_is():
    found = planned(meter_signal(signals.both(signals.sine(1000, -23.2, 5)), encoding="pcm_24"), _spec(BROADCAST))
    assert (found.action, found.gain_db, found.limiting_db) == ("as_is", 0.0, 0.0)
    assert "as it is" in found.reasons[0]


def test_gain_goes_to_the_target_itself():
    found = planned(meter_signal(signals.noise(5, -30)), _spec(BROADCAST))
    assert found.action == "gain"
    assert found.predicted.integrated_lufs == pytest.approx(-23.0, abs=1e-6)


def test_a_peak_over_the_ceiling_is_brought_down_within_the_tolerance():
    """On target, but 0.3 dB over the ceiling: gain uses the tolerance instead of giving up."""
    signal = signals.both(signals.sine(1000, -23.0, 5))
    _bump(signal, -0.7)
    found = planned(meter_signal(signal), _spec(BROADCAST))
    assert found.action == "gain"
    assert -0.5 <= found.gain_db < -0.2
    assert found.predicted.true_peak_dbtp == pytest.approx(-1.01, abs=1e-6)
    assert "within the tolerance" in found.reasons[0]


def test_cannot_meet_says_by_how_much_and_what_would_do():
    signal = signals.both(signals.sine(1000, -30.0, 5))
    _bump(signal, -3.0)
    reading = meter_signal(signal)
    found = planned(reading, _spec(BROADCAST))
    assert found.action == "cannot_meet"
    assert found.predicted.true_peak_dbtp == pytest.approx(-1.01, abs=1e-6)
    short_db = -23.0 - found.predicted.integrated_lufs
    text = " ".join(found.reasons)
    assert "over the ceiling of −1.0" in text
    assert f"{short_db:.1f} dB short" in text


def test_full_scale_bounds_a_fixed_point_deliverable_but_not_a_floating_one():
    hot = meter_signal(signals.sine(1000, 3.0, 2))
    fixed = planned(hot, _spec(""))
    assert fixed.action == "gain"
    assert fixed.predicted.sample_peak_dbfs <= 0.0
    floating = planned(hot, _spec("", '[[formats]]\ncontainer = "wav"\nencoding = "float_32"'))
    assert (floating.action, floating.gain_db) == ("as_is", 0.0)


def test_silence_cannot_meet_a_target_and_says_why():
    found = planned(meter_signal(signals.silence(2), encoding="pcm_24"), _spec(BROADCAST))
    assert found.action == "cannot_meet"
    assert "loud enough to be measured" in found.reasons[0]
    assert planned(meter_signal(signals.silence(2), encoding="pcm_24"), _spec("")).action == "as_is"


def test_a_length_that_gain_cannot_mend_is_named():
    spec = _spec(BROADCAST.replace("[limits]", "[limits]\ndurations_s = [15.0]"))
    found = planned(meter_signal(signals.noise(5, -20)), spec)
    assert found.action == "cannot_meet"
    assert any("length 15 s" in reason and "found 5" in reason for reason in found.reasons)


@pytest.mark.parametrize("measure", ["integrated", "max_short_term", "rms", "sample_peak", "true_peak"])
def test_each_measure_is_brought_to_its_target(measure):
    reading = meter_signal(signals.noise(5, -40, seed=3))
    found = planned(reading, _spec(f'[loudness]\nmeasure = "{measure}"\ntarget = -20\ntolerance = 0.1'))
    field = {
        "integrated": "integrated_lufs",
        "max_short_term": "max_short_term_lufs",
        "rms": "rms_dbfs",
        "sample_peak": "sample_peak_dbfs",
        "true_peak": "true_peak_dbtp",
    }[measure]
    assert getattr(found.predicted, field) == pytest.approx(-20.0, abs=1e-6)


def test_gain_across_the_absolute_gate_is_solved_not_subtracted():
    """Passages at −75 LUFS count once gain lifts them over −70: plain subtraction would miss the target."""
    signal = np.concatenate((signals.noise(30, -78, seed=1), signals.noise(10, -66, seed=2)))
    reading = meter_signal(signal)
    found = planned(reading, _spec("[loudness]\ntarget = -23\ntolerance = 0.5"))
    measured = meter_signal(signal * 10 ** (found.gain_db / 20))
    assert abs(found.gain_db - (-23.0 - reading.integrated_lufs)) > 0.05
    assert measured.integrated_lufs == pytest.approx(-23.0, abs=0.01)
    assert found.predicted.integrated_lufs == pytest.approx(measured.integrated_lufs, abs=1e-6)
    assert found.predicted.loudness_range_lu == pytest.approx(measured.loudness_range_lu, abs=1e-6)


def test_rms_minus_14_with_peak_minus_0_2_needs_a_crest_factor_of_13_8_db():
    """Arithmetic: what gain alone can do."""
    spec = _spec('[loudness]\nmeasure = "rms"\ntarget = -14\ntolerance = 0\n[limits]\nmax_sample_peak_dbfs = -0.2')
    for crest_db, action in [(13.7, "gain"), (13.9, "cannot_meet")]:
        signal = signals.noise(4, -40, channels=1, seed=1)
        signal = np.clip(signal, -0.02, 0.02)
        rms = math.sqrt(np.mean(signal**2))
        signal[1000] = rms * 10 ** (crest_db / 20)
        assert planned(meter_signal(signal), spec).action == action


def test_one_channel_goes_to_its_own_target_and_says_why():
    found = planned(meter_signal(signals.noise(5, -30, channels=1)), shipped_specs()["podcast"])
    assert found.predicted.integrated_lufs == pytest.approx(-19.0, abs=1e-6)
    assert any("One channel" in reason for reason in found.reasons)


def test_dither_only_where_the_word_length_falls():
    reading_16 = meter_signal(np.round(signals.noise(2, -23) * 32768) / 32768, encoding="pcm_16")
    untouched = _spec("", '[[formats]]\ncontainer = "wav"\nencoding = "pcm_16"')
    levelled = _spec(BROADCAST, '[[formats]]\ncontainer = "wav"\nencoding = "pcm_16"')
    assert not planned(reading_16, untouched).dithers
    assert planned(reading_16, levelled).dithers
    assert planned(meter_signal(signals.noise(2), encoding="pcm_24"), untouched).dithers
    undithered = _spec("", '[[formats]]\ncontainer = "wav"\nencoding = "pcm_16"\ndither = "none"')
    rounded = planned(meter_signal(signals.noise(2), encoding="pcm_24"), undithered)
    assert not rounded.dithers
    assert any("distortion" in reason for reason in rounded.reasons)


def test_size_of_wave_is_exact_and_of_flac_about_right():
    """PCM bytes = seconds × rate × channels × bytes per sample (arithmetic): 15 s are 2,646,000 bytes."""
    reading = meter_signal(signals.noise(15, rate=44_100), 44_100)
    wave = planned(reading, _spec("", '[[formats]]\ncontainer = "wav"\nencoding = "pcm_16"'))
    assert wave.predicted.source.size_bytes == 2_646_000 + 44
    flac = planned(reading, _spec("", '[[formats]]\ncontainer = "flac"')).predicted.source
    assert not wave.predicted.source.size_is_estimate
    assert flac.size_is_estimate


def test_several_formats_give_several_plans_and_first_that_fits_one():
    two = '[[formats]]\ncontainer = "wav"\nencoding = "pcm_24"\n[[formats]]\ncontainer = "wav"\nencoding = "pcm_16"\n'
    reading = meter_signal(signals.noise(2))
    assert [each.output.bits for each in all_planned(reading, _spec("", two))] == [24, 16]
    small = "[limits]\nmax_size_bytes = 400000\n[output]\npick = 'first_that_fits'"
    assert [each.output.bits for each in all_planned(reading, _spec(small, two))] == [16]


def test_limiting_stays_within_what_is_allowed_and_says_what_would_do(tmp_path):
    path = signals.write(tmp_path / "a.wav", signals.drums(6), subtype="DOUBLE")
    prepared = prepare(path, hops_folder=tmp_path)
    spec = _spec(
        "[loudness]\ntarget = -16\ntolerance = 0.5\n[limits]\nmax_true_peak_dbtp = -1\n"
        '[method]\nallow = "limiter"\nmax_limiting_db = 6.0\n'
    )
    found = plan(prepared.reading.source, lambda _: prepared, spec)
    assert found.action == "cannot_meet"
    assert 5.99 < found.limiting_db <= 6.0
    text = " ".join(found.reasons)
    short_db = -16.0 - found.predicted.integrated_lufs
    assert f"{short_db:.1f} dB short" in text
    assert "dB of limiting, or another spec would do" in text
    assert "Without limiting it can reach" in text


@pytest.mark.parametrize(
    ("limit", "field"),
    [("max_short_term_lufs = -17.5", "max_short_term_lufs"), ("max_momentary_lufs = -15.5", "max_momentary_lufs")],
)
def test_limiting_minds_the_loudest_passages_too(tmp_path, limit, field):
    path = signals.write(tmp_path / "a.wav", signals.drums(6), subtype="DOUBLE")
    prepared = prepare(path, hops_folder=tmp_path)
    spec = _spec(
        f"[loudness]\ntarget = -17\ntolerance = 3\n[limits]\nmax_true_peak_dbtp = -1\n{limit}\n"
        '[method]\nallow = "limiter"\n'
    )
    found = plan(prepared.reading.source, lambda _: prepared, spec)
    assert found.verdict.meets
    assert getattr(found.predicted, field) <= float(limit.split()[-1]) + 0.005


def test_size_of_a_bit_rate_is_seconds_times_kbit_times_125_to_a_few_frames():
    """Arithmetic: 15 s at 192 kbit/s are 360,000 bytes; tag and delay take up to three frames."""
    spec = _spec("", '[[formats]]\ncontainer = "mp3"\nencoding = "mp3"\nbitrate_kbps = 192')
    size_bytes = planned(meter_signal(signals.noise(15, rate=44_100), 44_100), spec).predicted.source.size_bytes
    frame_bytes = 1152 / 44_100 * 192 * 125
    assert 360_000 < size_bytes <= 360_000 + 3 * frame_bytes


def test_gain_range_is_empty_where_nothing_fits():
    signal = signals.both(signals.sine(1000, -30.0, 5))
    signal[100_000:100_010] = 0.7
    spec = _spec(BROADCAST)
    reading = meter_signal(signal)
    allowed = gain_range(as_it_is(reading), spec, planned(reading, spec).output)
    assert allowed.low > allowed.high
    assert allowed.ceiling == "max_true_peak_dbtp"


@pytest.mark.parametrize(
    ("seconds", "encoding", "most_bytes", "way_out"),
    [
        (4, "pcm_24", 800_000, "With 16 bits it would fit."),
        (4, "pcm_24", 200_000, "MP3 at 320 kbit/s would fit."),
        (4, "pcm_16", 60_000, "MP3 at 112 kbit/s would fit."),
        (4, "pcm_16", 2_000, "not even MP3 would fit."),
    ],
)
def test_what_is_too_large_is_told_what_would_fit(seconds, encoding, most_bytes, way_out):
    spec = parse_spec(
        f'[spec]\nname = "x"\n[limits]\nmax_size_bytes = {most_bytes}\n'
        f'[[formats]]\ncontainer = "wav"\nencoding = "{encoding}"\n',
        "x",
    )
    reading = meter_signal(signals.noise(seconds, -23))
    found = plan(reading.source, lambda _: as_it_is(reading), spec)
    assert any(reason.endswith(way_out) for reason in found.reasons)


@pytest.mark.parametrize(
    ("dither", "said"),
    [
        ("tpdf", "The gained samples are rounded to 16 bits with TPDF dither, once and last."),
        ("shaped", "The gained samples are rounded to 16 bits with TPDF dither, its noise shaped, once and last."),
    ],
)
def test_the_dither_that_is_written_is_the_one_that_is_said(dither, said):
    output = f'formats = [{{ container = "wav", encoding = "pcm_16", dither = "{dither}" }}]'
    spec = parse_spec(f'spec.name = "House"\nloudness = {{ target = -20.0, tolerance = 0.5 }}\n{output}', "house")
    assert said in planned(meter_signal(signals.noise(3, -30)), spec).reasons
