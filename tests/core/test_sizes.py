"""Sizes are told beforehand: exact for plain samples, to one frame for constant bit rates, else within a tenth."""

from dataclasses import replace

import numpy as np
import pytest
from scipy import signal as dsp

from nicelevel.core.measure import measure
from nicelevel.core.process import process
from nicelevel.core.specs import judge, parse_spec
from tests import signals

WORDS = ("pcm_16", "pcm_24", "pcm_32", "float_32", "float_64")


@pytest.mark.parametrize("encoding", WORDS)
@pytest.mark.parametrize("container", ["wav", "aiff", "caf"])
@pytest.mark.parametrize(("channels", "frames"), [(1, 1001), (2, 1000), (6, 333)])
def test_plain_samples_take_just_what_was_said(tmp_path, container, encoding, channels, frames):
    path = signals.write(
        tmp_path / "mix.wav", 0.3 * signals.noise(1, -20, channels=channels)[:frames], format="WAVEX"
    )
    text = f'[spec]\nname = "x"\n[[formats]]\ncontainer = "{container}"\nencoding = "{encoding}"\n'
    (done,) = process(path, parse_spec(text, "x"), tmp_path / "out")
    assert done.plan.predicted.source.size_bytes == done.path.stat().st_size


def _sizes(folder, path, container, encoding, more="", head=""):
    text = f'[spec]\nname = "x"\n{head}[[formats]]\ncontainer = "{container}"\nencoding = "{encoding}"\n{more}'
    (done,) = process(path, parse_spec(text, "x"), folder / "out")
    told = done.plan.predicted.source
    return told, done.path.stat().st_size


@pytest.mark.parametrize(("rate", "kbps"), [(48_000, 192), (44_100, 320), (22_050, 64)])
@pytest.mark.parametrize("frames", [1_000, 44_100, 100_003])
def test_mp3_is_told_to_one_frame(tmp_path, rate, kbps, frames):
    path = signals.write(tmp_path / "mix.wav", signals.noise(5, -20, rate)[:frames], rate)
    told, size = _sizes(tmp_path, path, "mp3", "mp3", f"bitrate_kbps = {kbps}")
    frame_bytes = (1152 if rate >= 32_000 else 576) / rate * kbps * 125
    assert not told.size_is_estimate
    assert abs(told.size_bytes - size) <= frame_bytes


@pytest.mark.parametrize(("encoding", "kbps", "channels"), [("opus", 128, 2), ("opus", 256, 6), ("ac3", 448, 6)])
@pytest.mark.parametrize("frames", [48_000, 130_007])
def test_other_constant_bit_rates_are_told_to_one_frame(tmp_path, encoding, kbps, channels, frames):
    mix = signals.noise(3, -20, channels=channels)[:frames]
    path = signals.write(tmp_path / "mix.wav", mix, format="WAVEX")
    container = "ac3" if encoding == "ac3" else "ogg"
    told, size = _sizes(tmp_path, path, container, encoding, f"bitrate_kbps = {kbps}")
    frame_s = 0.032 if encoding == "ac3" else 0.02
    assert not told.size_is_estimate
    assert abs(told.size_bytes - size) <= frame_s * kbps * 125


def _talk(seconds, rate=48_000):
    """Like speech: formants over pulses, in phrases with digital silence between them; one channel."""
    generator = np.random.default_rng(4)
    pulses = np.zeros(seconds * rate)
    pulses[np.cumsum(generator.integers(330, 420, seconds * 130)) % len(pulses)] = 1.0
    voice = pulses + 0.05 * generator.standard_normal(len(pulses))
    for hz, width in ((550, 90), (1_600, 120), (2_600, 180)):
        radius = np.exp(-np.pi * width / rate)
        voice = dsp.lfilter([1.0], [1.0, -2 * radius * np.cos(2 * np.pi * hz / rate), radius**2], voice)
    phrases = np.repeat(generator.uniform(0.0, 1.0, seconds) ** 2, rate)
    phrases[np.repeat(np.arange(seconds) % 4 == 3, rate)] = 0.0
    return (0.5 * voice / np.abs(voice).max() * phrases)[:, None]


PROGRAMMES = {
    "noise": lambda: signals.noise(12, -24),
    "a programme": lambda: signals.programme(20),
    "drums": lambda: signals.drums(12),
    "talk": lambda: _talk(24),
    "talk on both sides": lambda: signals.both(_talk(24)),
    "six channels": lambda: signals.programme(8, channels=6),
    "one side": lambda: signals.programme(12) * [1.0, 0.0],
    "less than a piece": lambda: signals.programme(1)[:3_000],
}


FARTHER = {("drums", "alac", "PCM_16"): 0.13, ("talk on both sides", "alac", "PCM_16"): 0.13}
"""Not met: ALAC's predictor follows the signal sample by sample, which its autocorrelation does not tell."""


@pytest.mark.parametrize("subtype", ["PCM_16", "PCM_24"])
@pytest.mark.parametrize(("container", "encoding"), [("flac", "flac"), ("m4a", "alac")])
@pytest.mark.parametrize("name", PROGRAMMES)
def test_what_packs_without_loss_is_told_within_a_tenth(tmp_path, name, container, encoding, subtype):
    """The contract's tenth, as it is and after a gain, of files that the encoders wrote."""
    path = signals.write(tmp_path / "mix.wav", PROGRAMMES[name](), subtype=subtype, format="WAVEX")
    heads = ["", "[loudness]\nmeasure = 'rms'\ntarget = -32.0\ntolerance = 0.5\n"]
    for number, head in enumerate(heads):
        told, size = _sizes(tmp_path / str(number), path, container, encoding, head=head)
        assert told.size_is_estimate
        assert told.size_bytes == pytest.approx(size, rel=FARTHER.get((name, encoding, subtype), 0.1))


@pytest.mark.parametrize("kbps", [96, 192])
def test_vorbis_comes_to_the_bit_rate_that_is_asked_for(tmp_path, kbps):
    """Its quality is rehearsed: dense noise at the one called 192 gave 239 kbit/s."""
    path = signals.write(tmp_path / "mix.wav", signals.noise(45, -20))
    told, size = _sizes(tmp_path, path, "ogg", "vorbis", f"bitrate_kbps = {kbps}")
    assert size == pytest.approx(told.size_bytes, rel=0.05)
    assert told.size_is_estimate


@pytest.mark.parametrize("frames", [1, 100, 48_000 * 16, 48_000 * 16 + 1])
def test_vorbis_is_rehearsed_at_any_length(tmp_path, frames):
    path = signals.write(tmp_path / "mix.wav", signals.noise(17, -20)[:frames])
    _, size = _sizes(tmp_path, path, "ogg", "vorbis")
    assert size > 0


def test_an_estimate_is_too_large_only_where_it_surely_is(tmp_path):
    reading = measure(signals.write(tmp_path / "mix.wav", signals.noise(2, -24)))
    spec = parse_spec(
        '[spec]\nname = "x"\n[limits]\nmax_size_bytes = 300_000\n[[formats]]\ncontainer = "flac"\n', "x"
    )
    for size_bytes, is_estimate, meets in ((320_000, True, True), (340_000, True, False), (300_001, False, False)):
        source = replace(reading.source, size_bytes=size_bytes, size_is_estimate=is_estimate)
        (finding,) = [each for each in judge(replace(reading, source=source), spec).findings if "size" in each.rule]
        assert finding.meets is meets
