"""Values as JSON, as words, as drawings."""

import json
import math

import numpy as np
import pytest

from nicelevel.core.package import Packed, checksum_list, with_own_names
from nicelevel.core.plan.predict import Course, after_plan
from nicelevel.core.plan.sum_check import SumCheck
from nicelevel.core.specs import shipped_specs
from nicelevel.report.as_json import plans_json, reading_json
from nicelevel.report.curve import draw_loudness, draw_thumbnail, reduced
from nicelevel.report.spec_words import spec_line
from nicelevel.report.sum_words import draw_residual, sum_json, sum_sentence
from nicelevel.report.vial import CENTRE, LINE_X, WIDTH, draw_vial, place
from nicelevel.report.words import length, level, megabytes, unbroken
from tests import signals
from tests.core.measuring import as_it_is, meter_signal, planned

MEASURE_KEYS = [
    *("path", "size_bytes", "container", "encoding", "bitrate_kbps", "sample_rate", "channels", "layout", "frames"),
    *("duration_s", "bits_declared", "bits_used", "integrated_lufs", "loudness_range_lu", "max_momentary_lufs"),
    *("max_short_term_lufs", "true_peak_dbtp", "true_peak_per_channel_dbtp", "sample_peak_dbfs", "min_sample"),
    *("max_sample", "rms_dbfs", "plr_lu", "dc_offset", "clipped_samples", "silence_head_s", "silence_tail_s"),
    *("correlation", "mono_kind", "notes", "series"),
]


@pytest.mark.parametrize("signal", [signals.programme(4), signals.silence(1), signals.noise(0.01)])
def test_measure_has_every_key_and_only_finite_numbers(signal):
    text = json.dumps(reading_json(meter_signal(signal), "mix.wav", with_series=True), allow_nan=False)
    assert list(json.loads(text)) == MEASURE_KEYS


def test_levels_that_do_not_exist_are_null():
    silent = reading_json(meter_signal(signals.silence(1)))
    assert silent["integrated_lufs"] is silent["true_peak_dbtp"] is silent["plr_lu"] is None
    assert silent["true_peak_per_channel_dbtp"] == [None, None]


def test_series_is_null_before_the_first_window_and_in_silence():
    reading = meter_signal(np.concatenate((signals.noise(4), signals.silence(5))))
    series = reading_json(reading, with_series=True)["series"]
    assert series["hop_s"] == 0.1
    assert len(series["momentary"]) == len(series["short_term"]) == 90
    assert series["short_term"][:29] == [None] * 29
    assert series["short_term"][29] is not None
    assert series["short_term"][-1] is None


def test_plan_json_has_the_contracts_keys():
    reading = meter_signal(signals.noise(3, -30))
    answer = plans_json("mix.wav", (planned(reading, shipped_specs()["podcast"]),))
    assert {"path", "action", "gain_db", "limiting_db", "predicted", "reasons"} <= set(answer)
    wanted = {"integrated_lufs", "true_peak_dbtp", "sample_peak_dbfs", "rms_dbfs", "duration_s", "size_bytes"}
    wanted.add("size_is_estimate")
    assert wanted <= set(answer["predicted"])
    assert "outputs" not in answer


@pytest.mark.parametrize(
    ("seconds", "text"), [(0.04, "0:00.0"), (30.24, "0:30.2"), (59.99, "0:59.9"), (60, "1:00"), (3723.4, "1:02:03")]
)
def test_lengths(seconds, text):
    assert length(seconds) == text


@pytest.mark.parametrize(
    ("value", "signed", "text"),
    [
        (-23.04, False, "−23.0"),
        (0.6, True, "+0.6"),
        (-0.04, True, "0.0"),
        (None, False, "–"),
        (-math.inf, False, "–"),
    ],
)
def test_levels_in_words(value, signed, text):
    assert level(value, signed) == text


def test_megabytes_are_of_a_million_bytes():
    assert megabytes(2_646_000) == "2.6"
    assert megabytes(498_400_000) == "498"


@pytest.mark.parametrize(
    ("cause", "stem", "amount", "words"),
    [
        (None, None, None, "add up to the mix: what is left over is −70.0 dB"),
        ("missing", 1, None, "Bells is missing in the mix"),
        ("doubled", 0, None, "Strings is in the mix twice"),
        ("inverted", 0, None, "polarity inverted"),
        ("shifted", 1, 0.01, "Bells 10.0 ms later"),
        ("shifted", 1, -1 / 48_000, "Bells 0.02 ms earlier"),
        ("level", 0, -0.5, "Strings at −0.5 dB"),
        ("unknown", None, None, "no single stem explains it"),
    ],
)
def test_a_sum_check_is_said_in_a_sentence(cause, stem, amount, words):
    assert words in sum_sentence(SumCheck(-70.0, (), cause, stem, amount), ["Strings", "Bells"])


def test_spec_lines():
    assert spec_line(shipped_specs()["european-broadcast"]) == "−23 ±0.5 LUFS · −1 dBTP"
    assert spec_line(shipped_specs()["full-resolution"]) == "level and bits untouched"


def test_the_bubble_stands_between_the_lines_exactly_inside_the_tolerance():
    for tolerance in (0.5, 1.0, 2.0):
        assert place(0.0, tolerance) == CENTRE
        assert abs(place(tolerance, tolerance) - CENTRE) + 5.4 <= LINE_X
        assert place(tolerance * 1.01, tolerance) - CENTRE - 4.6 >= LINE_X
    distances = [place(distance, 1.0) for distance in np.arange(-60, 60, 0.5)]
    assert distances == sorted(distances)
    assert min(distances) > 4
    assert max(distances) < WIDTH - 4


def test_vials_of_silence_and_of_untouched_level():
    silent = meter_signal(signals.silence(2), encoding="pcm_24")
    podcast, whole = shipped_specs()["podcast"], shipped_specs()["full-resolution"]
    assert draw_vial(silent, planned(silent, podcast), podcast).landing_x < CENTRE
    assert not draw_vial(silent, planned(silent, whole), whole).has_target


def test_a_proved_vial_shows_what_was_proved_not_what_was_planned():
    podcast = shipped_specs()["podcast"]
    reading = meter_signal(signals.noise(3, -30))
    found = planned(reading, podcast)
    assert draw_vial(reading, found, podcast).landing_x == pytest.approx(CENTRE, abs=0.1)
    assert draw_vial(reading, found, podcast, {"integrated_lufs": -14.0}, "missed").landing_x > CENTRE + LINE_X


def test_the_close_up_stays_inside_its_field():
    reading = meter_signal(signals.programme(20))
    spec = shipped_specs()["podcast"]
    drawing = draw_loudness(reading, after_plan(as_it_is(reading), planned(reading, spec), None), spec, 600, 280)
    for path in (drawing.source_path, drawing.planned_path):
        numbers = [tuple(map(float, point.split())) for point in path.replace("L", "M").split("M") if point]
        assert all(46 <= x <= 582 and 0 <= y <= 254 for x, y in numbers)
    assert 0 < drawing.band_y < 254
    assert [tick.label for tick in drawing.times][:2] == ["0:00", "0:05"]


def test_places_of_notes_are_marked_on_the_time_axis():
    signal = 0.5 * signals.programme(10, seed=2)
    signal[240_000:244_800] = 0.0
    reading = meter_signal(signal)
    assert "silence_inside" in [note.code for note in reading.notes]
    drawing = draw_loudness(
        reading, Course(reading.curves.energies, 2, None), shipped_specs()["podcast"], 64 + 1000, 280
    )
    assert [mark.at for mark in drawing.marks if "silence" in mark.sentence] == [pytest.approx(46 + 500, abs=2)]


def test_short_and_silent_sources_can_be_drawn():
    for signal in (signals.noise(0.001), signals.silence(8), signals.noise(2)):
        reading = meter_signal(signal, encoding="pcm_24")
        draw_loudness(reading, Course(reading.curves.energies, 2, None), shipped_specs()["full-resolution"], 500, 200)
        assert draw_thumbnail(reading.curves.peaks).startswith("M")


def test_reduced_peaks_keep_every_peak():
    peaks = np.zeros(1000, np.float32)
    peaks[777] = 0.5
    assert reduced(peaks, 64).max() == 0.5
    assert len(reduced(peaks, 64)) == 64
    assert len(reduced(peaks[:3], 64)) == 3


def test_a_package_gives_every_file_its_own_name(tmp_path):
    files = [Packed(tmp_path, name, "0" * 64) for name in ("mix.wav", "MIX.wav", "mix.wav", "other.wav")]
    named = with_own_names(files)
    assert [packed.name for packed in named] == ["mix.wav", "MIX (2).wav", "mix (3).wav", "other.wav"]
    assert checksum_list(named[:1]) == "0" * 64 + "  mix.wav\n"


def test_the_residual_of_a_sum_check_is_a_line_over_time():
    """0 dB against the mix stands at 6/86 of the height, silence at the foot; of every few steps the loudest."""
    series = (float("-inf"),) * 300 + (0.0,) + (float("-inf"),) * 299
    kept = sum_json(SumCheck(-12.0, series, "unknown", None), ["Strings"])["residual_db"]
    assert len(kept) == 200
    assert (kept[100], set(kept) - {0.0}) == (0.0, {-80.0})
    points = [tuple(map(float, point.split())) for point in draw_residual(kept, 34, 200, 86)[1:].split("L")]
    assert points[0] == (34.5, 86.0)
    assert points[100] == (134.5, 6.0)


def test_a_figure_stays_on_one_line_with_its_unit():
    assert unbroken("FLAC, 24 bit, 48 kHz, stereo") == "FLAC, 24\u00a0bit, 48\u00a0kHz, stereo"
    assert unbroken("−14.0 ±0.5 LUFS") == "−14.0 ±0.5\u00a0LUFS"
