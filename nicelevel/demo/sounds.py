"""Synthesised sound: sea, foghorn, strings, bells, brass, speech. Float64, one channel unless stated.

Everything comes from the generator that is handed in, so that the same seed makes the same demo.
"""

import subprocess
import tempfile
from pathlib import Path

import numpy as np
import soundfile
from numpy.typing import NDArray
from scipy import signal as dsp

Signal = NDArray[np.float64]
Generator = np.random.Generator

VOICES = {"keeper": ("en-gb", 132, 38), "guide": ("en-gb-scotland", 150, 55), "bulletin": ("en-gb-x-rp", 160, 48)}
"""espeak-ng voice, words per minute, pitch."""


def seconds_of(seconds: float, rate_hz: int) -> Signal:
    """Times of the frames, in seconds."""
    return np.arange(round(seconds * rate_hz)) / rate_hz


def speech(text: str, voice: str, rate_hz: int) -> Signal:
    """A spoken text, at about -20 dBFS RMS."""
    name, speed, pitch = VOICES[voice]
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "speech.wav"
        command = ["espeak-ng", "-v", name, "-s", str(speed), "-p", str(pitch), "-w", str(path), text]
        subprocess.run(command, check=True, capture_output=True)
        spoken, spoken_rate_hz = soundfile.read(path, dtype="float64")
    resampled: Signal = dsp.resample_poly(spoken, rate_hz, spoken_rate_hz)
    levelled: Signal = resampled * (0.1 / np.sqrt(np.mean(resampled**2)))
    return levelled


def spread(parts: list[Signal], seconds: float, rate_hz: int, gap_s: float) -> Signal:
    """Parts one after the other with gaps, begun anew until the time is full."""
    track = np.zeros(round(seconds * rate_hz))
    at, number = round(gap_s * rate_hz / 2), 0
    while at < len(track):
        part = parts[number % len(parts)][: len(track) - at]
        track[at : at + len(part)] += part
        at += len(part) + round(gap_s * rate_hz)
        number += 1
    return track


def sea(seconds: float, rate_hz: int, generator: Generator, swell_s: float = 7.0) -> Signal:
    """Surf: dark noise that swells and breaks; stereo."""
    time = seconds_of(seconds, rate_hz)
    dark = dsp.butter(2, [60, 900], "bandpass", fs=rate_hz, output="sos")
    bright = dsp.butter(2, 1_800, "highpass", fs=rate_hz, output="sos")
    noise = generator.standard_normal((len(time), 2))
    swell = (0.5 + 0.5 * np.sin(2 * np.pi * time / swell_s + generator.uniform(0, 6)))[:, None]
    waves: Signal = dsp.sosfilt(dark, noise, axis=0) * (0.3 + swell)
    waves += 0.25 * dsp.sosfilt(bright, noise, axis=0) * swell**3
    return waves


def foghorn(seconds: float, rate_hz: int) -> Signal:
    """Two low reeds that beat against each other, with a slow start and a grunt at the end."""
    time = seconds_of(seconds, rate_hz)
    envelope = np.minimum(1.0, time / 0.35) * np.minimum(1.0, (seconds - time) / 0.5)
    reeds = [saw(hz * time) for hz in (87.3, 88.1, 130.8)]
    low = dsp.butter(3, 700, "lowpass", fs=rate_hz, output="sos")
    horn: Signal = dsp.sosfilt(low, sum(reeds) / 3) * envelope
    return horn


def doubled(signal: Signal) -> Signal:
    """The same at twice the rate: soft sounds are made at half of it, in half the time."""
    twice: Signal = dsp.resample_poly(signal, 2, 1, axis=0)
    return twice


def saw(turns: Signal) -> Signal:
    """A sawtooth by its phase in turns."""
    return 2.0 * (turns - np.floor(turns)) - 1.0


def strings(chords: list[list[float]], seconds: float, rate_hz: int, generator: Generator) -> Signal:
    """A slow string pad through chords in Hz; stereo."""
    time = seconds_of(seconds, rate_hz)
    hold = seconds / len(chords)
    pad = np.zeros((len(time), 2))
    for number, chord in enumerate(chords):
        envelope = np.clip(1.6 - np.abs(time - (number + 0.5) * hold) / (0.6 * hold), 0.0, 1.0) ** 1.5
        inside = envelope > 0
        for hz in chord:
            for side in (0, 1):
                tuned = hz * (1 + 0.003 * generator.standard_normal())
                vibrato_s = 6e-4 * np.sin(2 * np.pi * generator.uniform(4.5, 6) * time[inside])
                pad[inside, side] += saw(tuned * (time[inside] + vibrato_s)) * envelope[inside]
    low = dsp.butter(2, 2_600, "lowpass", fs=rate_hz, output="sos")
    soft: Signal = dsp.sosfilt(low, pad, axis=0)
    return soft


def bells(notes_hz: list[float], seconds: float, rate_hz: int, generator: Generator) -> Signal:
    """Struck bells with the partials of a small church bell; stereo."""
    track = np.zeros((round(seconds * rate_hz), 2))
    step_s = seconds / len(notes_hz)
    for number, hz in enumerate(notes_hz):
        ring = seconds_of(min(5.0, seconds - number * step_s), rate_hz)
        partials = ((0.5, 0.5, 4.0), (1.0, 1.0, 2.4), (1.19, 0.7, 2.0), (2.0, 0.6, 1.2), (3.01, 0.35, 0.7))
        strike = sum(a * np.exp(-ring / d) * np.sin(2 * np.pi * hz * p * ring) for p, a, d in partials)
        start = round(number * step_s * rate_hz)
        pan = generator.uniform(0.25, 0.75)
        end = min(start + len(ring), len(track))
        track[start:end] += np.outer(strike, [np.sqrt(1 - pan), np.sqrt(pan)])[: end - start]
    return track


def brass(notes_hz: list[float], seconds: float, rate_hz: int) -> Signal:
    """Low brass, one long note after the other, brighter as it grows."""
    time = seconds_of(seconds, rate_hz)
    hold = seconds / len(notes_hz)
    hz = np.repeat(notes_hz, len(time) // len(notes_hz) + 1)[: len(time)]
    phase = 2 * np.pi * np.cumsum(hz) / rate_hz
    place = (time % hold) / hold
    envelope = np.minimum(1.0, place / 0.15) * np.minimum(1.0, (1 - place) / 0.2)
    note = np.zeros(len(time))
    for n in range(1, 9):
        note += np.sin(n * phase) * envelope ** (0.6 + 0.5 * n) / n
    return note


def thunder(seconds: float, rate_hz: int, generator: Generator) -> Signal:
    """A crack and its long roll."""
    time = seconds_of(seconds, rate_hz)
    noise = generator.standard_normal(len(time))
    low = dsp.butter(2, [25, 160], "bandpass", fs=rate_hz, output="sos")
    roll = dsp.sosfilt(low, noise) * np.exp(-time / 1.8) * (1 + 0.5 * np.sin(2 * np.pi * 1.3 * time))
    crack = noise * np.exp(-time / 0.05) * 0.4
    struck: Signal = roll * 2.5 + crack
    return struck
