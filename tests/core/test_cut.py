"""Cutting what is too long, with a fade to close: the length to the frame, and nothing else changed."""

import numpy as np
import pytest

from nicelevel.core.channels import layout_from_count
from nicelevel.core.files import take_in
from nicelevel.core.plan import plans
from nicelevel.core.prepare import Workshop, recipe_for
from nicelevel.core.process import process
from nicelevel.core.specs import parse_spec
from nicelevel.core.specs.contradictions import contradictions
from nicelevel.core.steps.length import Length
from nicelevel.core.steps.rate import Rate
from nicelevel.core.values import OutputFormat
from tests import signals

from .preparing import chain_of, made

SPEC = """
[spec]
name = "Spot"
source = "house rule"
[loudness]
measure = "integrated"
target = -23.0
tolerance = 0.5
[limits]
{limits}
max_true_peak_dbtp = -1.0
[method]
allow = "limiter"
{fade}
[output]
metadata = "all"
[[formats]]
container = "{container}"
encoding = "{encoding}"
sample_rate = 44100
"""


def _spec(
    limits="durations_s = [5.0, 10.0]", fade="closing_fade_s = 0.5", container="wav", encoding="pcm_24", slug="spot"
):
    return parse_spec(SPEC.format(limits=limits, fade=fade, container=container, encoding=encoding), slug)


@pytest.mark.parametrize(
    ("seconds", "limits", "cut_s"),
    [
        (12.0, "durations_s = [5.0, 10.0]", 10.0),
        (9.99, "durations_s = [5.0, 10.0]", 5.0),
        (10.0, "durations_s = [5.0, 10.0]", None),
        (10.00001, "durations_s = [5.0, 10.0]", None),
        (4.0, "durations_s = [5.0, 10.0]", None),
        (12.0, "max_duration_s = 7.25", 7.25),
        (12.0, "durations_s = [5.0, 10.0]\nmax_duration_s = 7.0", 5.0),
        (7.0, "max_duration_s = 7.25", None),
    ],
)
def test_the_longest_length_that_is_reached(tmp_path, seconds, limits, cut_s):
    path = signals.write(tmp_path / "mix.wav", signals.noise(seconds), 48_000)
    output = OutputFormat("wav", "pcm_24", 44_100, layout_from_count(2), "tpdf", None, "constant", None)
    with take_in(path) as audio:
        recipe = recipe_for(audio.source, output, _spec(limits))
        kept = recipe_for(audio.source, output, _spec(limits, fade=""))
    assert recipe == (Rate(hz=44_100), *([] if cut_s is None else [Length(seconds=cut_s, fade_s=0.5)]))
    frames = round((cut_s or seconds) * 44_100)
    assert chain_of(path, *recipe).shape.frames == frames
    assert kept == (Rate(hz=44_100),)


def test_before_the_fade_nothing_changes_and_after_it_nothing_is_left(tmp_path):
    path = signals.write(tmp_path / "mix.wav", signals.both(signals.sine(997.3, -6.0, 3)), 48_000, "DOUBLE")
    whole, cut = made(path), made(path, Length(seconds=2.0, fade_s=0.5))
    assert len(cut) == 96_000
    assert np.array_equal(cut[:72_000], whole[:72_000])
    # Half a cosine: halfway at half its gain, without a corner at either end.
    expected = 0.5 + 0.5 * np.cos(np.pi * (np.arange(24_000) + 0.5) / 24_000)
    assert cut[72_000:] == pytest.approx(whole[72_000:96_000] * expected[:, None], abs=1e-12)


def test_a_cut_without_a_fade_ends_on_the_last_sample(tmp_path):
    path = signals.write(tmp_path / "mix.wav", signals.noise(3), 48_000)
    assert np.array_equal(made(path, Length(seconds=50_000 / 48_000)), made(path)[:50_000])


@pytest.mark.parametrize(
    ("container", "encoding"),
    [("wav", "pcm_24"), ("flac", "flac"), ("mp3", "mp3"), ("m4a", "aac"), ("ogg", "vorbis")],
)
def test_the_length_survives_every_encoder(tmp_path, container, encoding):
    mix = signals.write(tmp_path / "mix.wav", signals.programme(12, seed=4), 48_000)
    (written,) = process(mix, _spec(container=container, encoding=encoding), tmp_path / "out")
    assert written.proof.verdict.meets
    assert written.proof.reading.source.frames == 441_000
    assert abs(written.proof.reading.integrated_lufs - written.asked.predicted.integrated_lufs) < 0.3
    assert "It is cut from 12.000 to 10.000 s, the last 0.5 s fade out." in written.plan.reasons


def test_a_largest_size_is_filled_by_what_is_left_after_the_cut(tmp_path):
    """240 kB hold 10 s at 192 kbit/s; of the 40 s of the source they would hold 48."""
    mix = signals.write(tmp_path / "mix.wav", signals.programme(40, seed=4), 48_000)
    spec = _spec("durations_s = [10.0]\nmax_size_bytes = 245000", container="mp3", encoding="mp3")
    (written,) = process(mix, spec, tmp_path / "out")
    assert written.proof.verdict.meets
    assert written.plan.output.bitrate_kbps == 192.0


def test_what_is_too_short_is_not_made_longer(tmp_path):
    mix = signals.write(tmp_path / "mix.wav", signals.programme(4, seed=4), 48_000)
    with Workshop(mix, True) as workshop:
        (plan,) = plans(workshop.source(), workshop.measured, _spec())
    assert plan.action == "cannot_meet"


def test_a_cut_needs_a_length():
    (found,) = contradictions(_spec("min_duration_s = 1.0"))
    assert found.key == "method.closing_fade_s"
    assert contradictions(_spec()) == ()
