"""Predicted against proved: 66 pairs of source and spec, rendered, read back and measured.

Loudness to 0.05 LU, true peak to 0.1 dB, range to 0.2 LU; no file over its ceiling by the band-limited truth.
"""

import numpy as np
import pytest
import soundfile

from nicelevel.core.channels import layout_of_name
from nicelevel.core.files.wave_header import wave_header
from nicelevel.core.process import process
from nicelevel.core.specs import parse_spec
from nicelevel.core.values import OutputFormat
from tests import plain, signals

SOURCES = {
    "programme": lambda: (signals.band_limited(signals.programme(9, seed=1), 48_000), 48_000),
    "quiet programme": lambda: (0.1 * signals.band_limited(signals.programme(8, seed=2), 48_000), 48_000),
    "drums": lambda: (signals.drums(8), 48_000),
    "drums at 44.1 kHz": lambda: (signals.drums(8, 44_100, seed=3), 44_100),
    "programme at 96 kHz": lambda: (signals.band_limited(signals.programme(9, 96_000, seed=4), 96_000), 96_000),
    "speech-like": lambda: (_speech(8), 48_000),
    "one channel": lambda: (signals.band_limited(signals.programme(9, channels=1, seed=5), 48_000), 48_000),
    "5.1": lambda: (0.6 * signals.band_limited(signals.programme(8, channels=6, seed=6), 48_000), 48_000),
    "dense noise": lambda: (
        0.8 * signals.band_limited(np.clip(signals.noise(8, -12, seed=7), -0.8, 0.8), 48_000),
        48_000,
    ),
    "tones": lambda: (signals.both(signals.sine(220, -9, 8) + signals.sine(3_100, -15, 8)), 48_000),
    "bursts": lambda: (_bursts(8), 48_000),
}

PEAK = "[limits]\nmax_true_peak_dbtp = -1.0\n"
SAMPLE_PEAK = "[limits]\nmax_sample_peak_dbfs = -0.2\n"
LIMITER = '[method]\nallow = "limiter"\nmax_limiting_db = 20.0\n'

# Loudness, limits and method, encoding, rate, channels.
SPECS = {
    "broadcast": ("target = -23.0", PEAK, "pcm_24", '"keep"', "keep"),
    "loud": ("target = -14.0", PEAK + LIMITER, "pcm_24", '"keep"', "keep"),
    "stereo at 44.1 kHz": ("target = -13.5", PEAK + LIMITER, "pcm_16", "44100", "stereo"),
    "mono": ("target = -16.0", PEAK + LIMITER, "pcm_24", '"keep"', "mono"),
    "soft": ("target = -14.5", PEAK + LIMITER + "soft_db = 4.0\n", "pcm_24", '"keep"', "keep"),
    "rms": ('measure = "rms"\ntarget = -16.0', SAMPLE_PEAK + LIMITER, "pcm_16", '"keep"', "keep"),
}


def _spec(name):
    level, rest, encoding, rate, channels = SPECS[name]
    return parse_spec(
        f'[spec]\nname = "House"\n[loudness]\n{level}\ntolerance = 0.5\n{rest}[[formats]]\ncontainer = "wav"\n'
        f'encoding = "{encoding}"\nsample_rate = {rate}\nchannels = "{channels}"\n',
        "house",
    )


@pytest.mark.parametrize("spec_name", SPECS)
@pytest.mark.parametrize("source_name", SOURCES)
def test_what_is_predicted_is_proved(tmp_path, source_name, spec_name):
    signal, rate = SOURCES[source_name]()
    path = _written(tmp_path / "source.wav", signal, rate)
    (done,) = process(path, _spec(spec_name), tmp_path)
    predicted, proved = done.plan.predicted, done.proof.reading
    assert done.proof.verdict.meets
    assert proved.integrated_lufs == pytest.approx(predicted.integrated_lufs, abs=0.05)
    assert proved.true_peak_dbtp == pytest.approx(predicted.true_peak_dbtp, abs=0.1)
    assert proved.sample_peak_dbfs == pytest.approx(predicted.sample_peak_dbfs, abs=0.1)
    assert proved.max_short_term_lufs == pytest.approx(predicted.max_short_term_lufs, abs=0.05)
    assert proved.rms_dbfs == pytest.approx(predicted.rms_dbfs, abs=0.05)
    assert proved.loudness_range_lu == pytest.approx(predicted.loudness_range_lu, abs=0.2)
    assert proved.source.frames == predicted.source.frames
    assert proved.source.size_bytes == predicted.source.size_bytes
    if spec_name != "rms":
        assert 20 * np.log10(_truth(done.path)) <= -1.0 + 0.02


def _truth(path):
    """The largest band-limited value, 64 points per sample, of every piece that could have it."""
    samples, _ = soundfile.read(path, always_2d=True)
    piece, overlap = 8_192, 1_024
    taper = np.sin(np.clip(np.arange(piece) / overlap, 0.0, 1.0) * np.pi / 2) ** 2
    taper *= taper[::-1]
    padded = np.pad(samples, ((overlap, piece), (0, 0)))
    highest = np.abs(samples).max()
    pieces = [
        padded[start : start + piece, channel]
        for start in range(0, len(samples) + overlap, piece - 2 * overlap)
        for channel in range(samples.shape[1])
    ]
    return max(plain.band_limited_peak(part * taper, 64) for part in pieces if np.abs(part).max() > 0.8 * highest)


def _written(path, signal, rate):
    if signal.shape[1] == 6:
        output = OutputFormat("wav", "float_64", rate, layout_of_name("5.1"), "none")
        path.write_bytes(wave_header(output, signal.nbytes) + signal.tobytes())
        return path
    return signals.write(path, signal, rate, "DOUBLE")


def _speech(seconds, rate=48_000):
    """Syllables of voiced tones and hiss, four a second, with pauses."""
    generator = np.random.default_rng(9)
    time = np.arange(int(seconds * rate)) / rate
    pitch = 110 + 20 * np.sin(2 * np.pi * 0.4 * time)
    phase = 2 * np.pi * np.cumsum(pitch) / rate
    voice = sum(np.sin(n * phase) / n for n in range(1, 25))
    syllables = np.clip(np.sin(2 * np.pi * 4 * time), 0, None) ** 2 * (np.sin(2 * np.pi * 0.25 * time) > -0.7)
    hiss = 0.1 * generator.standard_normal(len(time)) * np.clip(np.sin(2 * np.pi * 4 * time + 2), 0, None)
    signal = voice * syllables + hiss
    return signals.band_limited(np.repeat((0.4 * signal / np.abs(signal).max())[:, None], 2, axis=1), rate)


def _bursts(seconds, rate=48_000):
    """Noise that jumps between two levels, with single peaks far over it."""
    signal = signals.noise(seconds, -30, rate, seed=11)
    signal[: len(signal) // 2] *= 3.0
    signal[rate :: rate // 2] *= 6.0
    return signals.band_limited(signal, rate)


def _dense(seconds, rate=48_000):
    """Noise that was clipped before: little between its level and its peaks."""
    return 0.8 * signals.band_limited(np.clip(signals.noise(seconds, -12, rate, seed=7), -0.8, 0.8), rate)
