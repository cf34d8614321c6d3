"""Test audio from formula and seed. Every signal is float64, frames × channels, ±1.0 at full scale."""

from pathlib import Path

import numpy as np
import soundfile
from numpy.typing import NDArray

Signal = NDArray[np.float64]


def ratio(level_db: float) -> float:
    return 10.0 ** (level_db / 20.0)


def sine(hz: float, level_dbfs: float, seconds: float, rate: int = 48_000, phase_degrees: float = 0.0) -> Signal:
    """One channel of a sine whose peaks are at level_dbfs."""
    time = np.arange(round(seconds * rate)) / rate
    return ratio(level_dbfs) * np.sin(2 * np.pi * hz * time + np.radians(phase_degrees))[:, None]


def both(signal: Signal) -> Signal:
    """The same in left and right."""
    return np.repeat(signal, 2, axis=1)


def tone_steps(steps: list[tuple[float, float]], rate: int = 48_000) -> Signal:
    """1 kHz in both channels without a jump of phase; steps of (level in dBFS, seconds)."""
    envelope = np.concatenate([np.full(round(seconds * rate), ratio(level)) for level, seconds in steps])
    return both((envelope * np.sin(2 * np.pi * 1000 * np.arange(len(envelope)) / rate))[:, None])


def silence(seconds: float, rate: int = 48_000, channels: int = 2) -> Signal:
    return np.zeros((round(seconds * rate), channels))


def noise(seconds: float, level_db: float = -20.0, rate: int = 48_000, channels: int = 2, seed: int = 0) -> Signal:
    """White noise with this RMS level."""
    generator = np.random.default_rng(seed)
    return ratio(level_db) * generator.standard_normal((round(seconds * rate), channels))


def programme(seconds: float, rate: int = 48_000, channels: int = 2, seed: int = 0) -> Signal:
    """Something like a programme: noise bands and tones that swell, fall quiet and burst."""
    generator = np.random.default_rng(seed)
    frames = round(seconds * rate)
    time = np.arange(frames) / rate
    knots = np.arange(0, seconds + 4, 3.3)
    swell_db = np.interp(time, knots, generator.uniform(-45, -12, len(knots)))
    carrier = generator.standard_normal((frames, channels)) * 0.35
    for hz in generator.uniform(60, min(6_000, rate * 0.4), 5):
        carrier += 0.3 * np.sin(2 * np.pi * hz * time + generator.uniform(0, 6))[:, None]
    return np.clip(carrier * (10 ** (swell_db / 20))[:, None], -0.98, 0.98)


def drums(seconds: float, rate: int = 48_000, seed: int = 0) -> Signal:
    """Hits twice a second: a falling low tone and a burst of noise, over a quiet bed."""
    generator = np.random.default_rng(seed)
    time = np.arange(int(0.3 * rate)) / rate
    signal = 0.02 * generator.standard_normal(int(seconds * rate))
    for start in np.arange(0.1, seconds - 0.4, 0.5):
        tone = np.exp(-time / 0.05) * np.sin(2 * np.pi * (60 + 120 * np.exp(-time / 0.02)) * time)
        noise = 0.4 * np.exp(-time / 0.015) * generator.standard_normal(len(time))
        at = int(start * rate)
        signal[at : at + len(time)] += generator.uniform(0.7, 1.0) * (tone + noise)
    signal *= 0.8 / np.abs(signal).max()
    return band_limited(np.stack([signal, 0.9 * signal], axis=1), rate)


def band_limited(signal: Signal, rate: int) -> Signal:
    """Without what lies over 0.44 of the rate: what is there, no two meters agree on."""
    spectrum = np.fft.rfft(signal, axis=0)
    share = np.arange(len(spectrum)) / (len(spectrum) - 1) / 2
    spectrum *= np.clip((0.44 - share) / 0.02, 0.0, 1.0)[:, None]
    return np.fft.irfft(spectrum, len(signal), axis=0)


def write(path: Path, signal: Signal, rate: int = 48_000, subtype: str = "PCM_24", **options: str) -> Path:
    """Write a file for a test; the container follows the suffix."""
    soundfile.write(path, signal, rate, subtype, **options)
    return path
