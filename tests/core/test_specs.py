"""Specs: what ships, what breaks one, how a reading is judged."""

import pytest

from nicelevel.core.errors import SpecError
from nicelevel.core.specs import judge, load_spec, parse_spec, shipped_specs
from tests import signals

from .measuring import meter_signal

MINIMAL = """
[spec]
name = "House"
[[formats]]
container = "wav"
"""


def _spec(text: str, formats: str = '[[formats]]\ncontainer = "wav"\n'):
    return parse_spec(f'[spec]\nname = "House"\n{text}\n{formats}', "house")


# Slug, published source, measure and target, tolerance, ceiling (true peak, else sample peak).
SHIPPED = {
    "audiobook-chapter": ("common practice", "rms", -20.5, 2.5, -3.0),
    "compact-disc": ("IEC 60908", None, None, None, None),
    "european-broadcast": ("EBU R 128 (2023)", "integrated", -23.0, 0.5, -1.0),
    "full-resolution": ("common practice", None, None, None, None),
    "japanese-broadcast": ("ARIB TR-B32 (from memory)", "integrated", -24.0, 1.0, -1.0),
    "loud-streaming": ("common practice", "integrated", -14.0, 0.5, -1.0),
    "mp3-without-re-encoding": ("common practice", "integrated", -16.0, 1.0, -1.0),
    "north-american-broadcast": ("ATSC A/85:2013", "integrated", -24.0, 2.0, -2.0),
    "paid-short-spot": ("common practice", "rms", -14.0, 0.5, -0.2),
    "podcast": ("common practice", "integrated", -16.0, 1.0, -1.0),
    "short-broadcast-item": ("EBU R 128 s1 (from memory)", "integrated", -23.0, 0.5, -1.0),
    "speech-handset": ("common practice", "sample_peak", -3.0, 0.1, -2.9),
    "streamed-album": ("AES77-2023 (from memory)", "integrated", -14.0, 0.5, -1.0),
    "streamed-music": ("AES77-2023 (from memory)", "integrated", -16.0, 0.5, -1.0),
    "streamed-speech": ("AES77-2023 (from memory)", "integrated", -18.0, 0.5, -1.0),
    "three-formats": ("common practice", None, None, None, 0.0),
}


def test_every_published_target_ships_with_its_source():
    assert list(shipped_specs()) == list(SHIPPED)
    for slug, (source, measure, target, tolerance, ceiling) in SHIPPED.items():
        spec = shipped_specs()[slug]
        assert spec.spec.source == source
        if measure is None:
            assert spec.loudness is None
            continue
        assert (spec.loudness.measure, spec.loudness.target, spec.loudness.tolerance) == (measure, target, tolerance)
        assert ceiling in (spec.limits.max_true_peak_dbtp, spec.limits.max_sample_peak_dbfs)


def test_defaults_of_a_minimal_spec():
    spec = parse_spec(MINIMAL, "house")
    assert spec.loudness is None
    assert spec.method.allow == "gain"
    assert spec.output.name == "{title}_{spec}"
    assert spec.formats[0].dither == "tpdf"


_BROKEN = {
    "unknown table": ("[loudnes]\ntarget = -23", "loudnes: no such key"),
    "unknown key": ("[limits]\nmax_peak = -1", "limits.max_peak: no such key"),
    "wrong type": ('[loudness]\ntarget = "loud"\ntolerance = 1', "loudness.target"),
    "true is no number": ("[loudness]\ntarget = true\ntolerance = 1", "loudness.target"),
    "target above 0": ("[loudness]\ntarget = 3\ntolerance = 1", "loudness.target"),
    "negative tolerance": ("[loudness]\ntarget = -23\ntolerance = -0.5", "loudness.tolerance"),
    "NaN": ("[loudness]\ntarget = nan\ntolerance = 1", "loudness.target"),
    "missing key": ("[loudness]\ntarget = -23", "loudness.tolerance: is missing"),
    "name leaves the folder": ('[output]\nname = "../{title}"', "output.name"),
    "name with an unknown field": ('[output]\nname = "{title}_{mood}"', "output.name: only {title}"),
    "name with a loose brace": ('[output]\nname = "{title"', "output.name: its braces do not pair"),
    "name of a folder alone": ('[output]\nname = "{spec}/"', "output.name: it ends with a folder"),
    "absolute name": ('[output]\nname = "/tmp/{title}"', "output.name"),
    "no lengths": ("[limits]\ndurations_s = []", "limits.durations_s"),
    "unknown means": ('[method]\nallow = "magic"', "method.allow"),
}


@pytest.mark.parametrize("fault", _BROKEN)
def test_broken_spec_names_key_and_reason_on_one_line(fault):
    text, expected = _BROKEN[fault]
    with pytest.raises(SpecError) as caught:
        _spec(text)
    assert expected in caught.value.message
    assert "\n" not in caught.value.message


@pytest.mark.parametrize(
    ("formats", "expected"),
    [
        ("", "formats: is missing"),
        ("formats = []", "formats"),
        ('[[formats]]\ncontainer = "mp3"\nencoding = "pcm_16"', "mp3 cannot hold pcm_16"),
        ('[[formats]]\ncontainer = "wav"\nsample_rate = 12', "format 1, sample_rate: "),
        ('[[formats]]\ncontainer = "wav"\n[[formats]]\ncontainer = "tape"', "format 2, container: "),
        ('[[formats]]\nencoding = "keep"', "format 1, container: is missing; a container or an encoding"),
        ('[[formats]]\ndither = "tpdf"', "format 1, container: is missing"),
        ('[[formats]]\nencoding = "mp3"\nsample_rate = 96000', "format 1, sample_rate: mp3 has no rate of 96000"),
        ('[[formats]]\nencoding = "mp3"\nchannels = "5.1"', "format 1, channels: mp3 holds 2 at most"),
        ('[[formats]]\nencoding = "flac"\nkbps = 3', "format 1, kbps: no such key"),
        ("[format]\nx = 1", "format: no such key"),
    ],
)
def test_broken_formats(formats, expected):
    with pytest.raises(SpecError, match=expected):
        _spec("", formats)


@pytest.mark.parametrize(
    ("told", "container", "encoding"),
    [
        ('container = "mp3"', "mp3", "mp3"),
        ('encoding = "mp3"', "mp3", "mp3"),
        ('container = "m4a"', "m4a", "aac"),
        ('encoding = "alac"', "m4a", "alac"),
        ('encoding = "opus"', "ogg", "opus"),
        ('encoding = "pcm_24"', "wav", "pcm_24"),
        ('container = "ogg"\nencoding = "keep"', "ogg", "vorbis"),
        ('container = "aiff"', "aiff", "keep"),
    ],
)
def test_a_container_or_an_encoding_names_the_other(told, container, encoding):
    found = _spec("", f"[[formats]]\n{told}").formats[0]
    assert (found.container, found.encoding) == (container, encoding)


def test_what_was_kept_before_it_was_refused_can_still_be_read():
    """Proofs were made by it; new ones are refused."""
    text = '[spec]\nname = "Old"\n[[formats]]\ncontainer = "mp3"\nencoding = "mp3"\nsample_rate = 96000\n'
    assert parse_spec(text, "old", is_kept=True).formats[0].sample_rate == 96_000


def test_text_that_is_no_toml_is_named():
    with pytest.raises(SpecError, match="not readable as TOML"):
        parse_spec("[spec", "house")


def test_a_spec_is_loaded_by_slug_or_path(tmp_path):
    (tmp_path / "client.toml").write_text(MINIMAL)
    assert load_spec("podcast").spec.name == "Podcast feed"
    assert load_spec(str(tmp_path / "client.toml")).slug == "client"
    for missing in ("nowhere", str(tmp_path / "nowhere.toml")):
        with pytest.raises(SpecError):
            load_spec(missing)


ALL_LIMITS = """
[loudness]
target = -20
tolerance = 1
[limits]
max_true_peak_dbtp = -1
max_sample_peak_dbfs = -1
max_momentary_lufs = -10
max_short_term_lufs = -10
max_loudness_range_lu = 20
durations_s = [5.0]
min_duration_s = 1
max_duration_s = 10
max_size_bytes = 10000000
min_bitrate_kbps = 100
"""


def test_one_finding_for_every_rule_named():
    verdict = judge(meter_signal(signals.noise(5, -20, seed=1)), _spec(ALL_LIMITS))
    rules = [finding.rule for finding in verdict.findings]
    assert len(rules) == len(set(rules)) == 12
    assert {"integrated", "max_true_peak_dbtp", "durations_s", "format"} <= set(rules)


@pytest.mark.parametrize(
    ("limit", "meets"),
    [
        ("max_true_peak_dbtp = -6.0", True),
        ("max_true_peak_dbtp = -6.1", False),
        ("max_sample_peak_dbfs = -6.0", True),
        ("max_sample_peak_dbfs = -6.1", False),
        ("max_duration_s = 5.0", True),
        ("max_duration_s = 4.9", False),
        ("min_duration_s = 5.1", False),
        ("durations_s = [15.0, 5.0]", True),
        ("durations_s = [15.0]", False),
        ("max_loudness_range_lu = 1", True),
        ("max_momentary_lufs = -9.0", True),
        ("max_momentary_lufs = -9.1", False),
        ("max_short_term_lufs = -9.1", False),
        ("max_size_bytes = 100", False),
        ("min_bitrate_kbps = 100000", False),
    ],
)
def test_each_limit_from_both_sides(limit, meets):
    reading = meter_signal(signals.sine(1000, -6.0, 5))
    assert judge(reading, _spec(f"[limits]\n{limit}")).meets is meets


def test_a_length_holds_to_within_one_sample():
    spec = _spec("[limits]\ndurations_s = [1.0]")
    for frames, meets in [(48_000, True), (48_001, True), (47_998, False)]:
        assert judge(meter_signal(signals.noise(1)[:1].repeat(frames, axis=0)), spec).meets is meets


def test_one_channel_is_judged_by_its_own_target():
    mono = meter_signal(signals.sine(1000, -16.0, 5))
    podcast = shipped_specs()["podcast"]
    finding = judge(mono, podcast).findings[0]
    assert finding.required == (-20.0, -18.0)
    assert finding.meets


def test_silence_misses_a_target():
    assert not judge(meter_signal(signals.silence(2)), _spec("[loudness]\ntarget = -23\ntolerance = 20")).meets


def test_format_is_judged():
    reading = meter_signal(signals.noise(1), encoding="pcm_24")
    assert judge(reading, _spec("")).meets
    assert not judge(reading, _spec("", '[[formats]]\ncontainer = "wav"\nencoding = "pcm_16"')).meets
    assert not judge(reading, _spec("", '[[formats]]\ncontainer = "flac"')).meets
    assert not judge(reading, _spec("", '[[formats]]\ncontainer = "wav"\nsample_rate = 44100')).meets
