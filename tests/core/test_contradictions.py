"""Demands that exclude each other are named; those that do not are left alone."""

import pytest

from nicelevel.core.specs import parse_spec, shipped_specs
from nicelevel.core.specs.contradictions import contradictions, needed_crest_db, size_bytes
from nicelevel.core.specs.spec import Format
from nicelevel.core.specs.write import spec_to_toml

WAVE = '[[formats]]\ncontainer = "wav"\nencoding = "pcm_16"\nsample_rate = 44100\nchannels = "stereo"\n'
LEVEL = "[loudness]\ntarget = -23.0\ntolerance = 0.5\n"


def _found(text, formats=WAVE):
    return contradictions(parse_spec(f'[spec]\nname = "House"\n{text}\n{formats}', "house"))


def test_fifteen_seconds_of_16_bit_cannot_be_under_a_megabyte_even_in_mono():
    """Arithmetic: 2.65 MB in stereo, 1.32 MB in one channel; at 533 kbit/s it could."""
    (found,) = _found("[limits]\ndurations_s = [15.0, 30.0]\nmax_size_bytes = 1_000_000\n")
    assert found.key == "formats.0"
    assert "15 s are 2.65 MB, even in one channel 1.32 MB" in found.sentence
    assert "533 kbit/s" in found.way_out


def test_the_same_at_192_kbit_fits():
    """Arithmetic: 15 s at 192 kbit/s are 360,000 bytes."""
    mp3 = '[[formats]]\ncontainer = "mp3"\nencoding = "mp3"\nbitrate_kbps = 192\n'
    assert _found("[limits]\ndurations_s = [15.0]\nmax_size_bytes = 1_000_000\n", mp3) == ()
    assert size_bytes(Format(container="mp3", encoding="mp3", bitrate_kbps=192.0), 15.0) == 360_000


@pytest.mark.parametrize(
    ("text", "formats", "key", "words"),
    [
        (LEVEL + "[limits]\nmax_short_term_lufs = -25.0\n", WAVE, "limits.max_short_term_lufs", "loudest 3 s"),
        ("[limits]\nmin_duration_s = 20.0\nmax_duration_s = 10.0\n", WAVE, "limits.min_duration_s", "at least 20"),
        ("[limits]\ndurations_s = [15.0]\nmax_duration_s = 10.0\n", WAVE, "limits.durations_s", "15 s"),
        (
            "[limits]\nmin_bitrate_kbps = 192\n",
            '[[formats]]\ncontainer = "mp3"\nencoding = "mp3"\nbitrate_kbps = 128\n',
            "formats.0",
            "under the 192",
        ),
        ("", '[[formats]]\ncontainer = "mp3"\nencoding = "mp3"\nbitrate_kbps = 200\n', "formats.0", "200 kbit/s"),
    ],
)
def test_what_excludes_each_other_is_named(text, formats, key, words):
    (found,) = _found(text, formats)
    assert found.key == key
    assert words in found.sentence
    assert found.way_out


def test_only_the_paid_spot_ships_with_one_and_says_so():
    found = {slug: contradictions(spec) for slug, spec in shipped_specs().items()}
    assert {slug for slug, each in found.items() if each} == {"paid-short-spot"}


def test_rms_minus_14_with_peak_minus_0_2_needs_a_crest_factor_of_13_8_db():
    """Arithmetic."""
    assert needed_crest_db(shipped_specs()["paid-short-spot"]) == pytest.approx(13.8)
    assert needed_crest_db(shipped_specs()["podcast"]) is None


@pytest.mark.parametrize("slug", shipped_specs())
def test_a_spec_written_is_the_spec_that_was_read(slug):
    spec = shipped_specs()[slug]
    assert parse_spec(spec_to_toml(spec), slug) == spec
