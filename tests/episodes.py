"""Conversations made of synthetic voices: passages at levels that are known, over a floor of noise."""

import subprocess
import tempfile
from collections.abc import Sequence
from functools import cache
from pathlib import Path

import numpy as np
import soundfile
import soxr

from . import reference
from .signals import Signal, ratio

RATE_HZ = 48_000
BASE_LUFS, FLOOR_DB = -23.0, -40.0

VOICES = (("en-gb", 150, 40), ("en-us", 165, 65), ("en-gb-scotland", 140, 20))
"""espeak-ng voice, words per minute, pitch."""

TEXTS = (
    "The lamp was lit at dusk and burned until the morning came. Ships that passed at night could see it from far "
    "out at sea, and the keepers wrote down every one of them in the log that lay on the table by the window.",
    "We went up the stairs slowly, because the stone was wet and the wind came in through every crack. At the top "
    "there was a small room with a stove, two chairs and a shelf with books that nobody had opened for years.",
    "In winter the boat came once a month, if the weather allowed it. They brought oil, flour, letters and sometimes "
    "a newspaper that was already three weeks old, which was read aloud from the first line to the last.",
    "Nobody believed him when he said that the light had moved. But he had measured it, three nights in a row, with "
    "nothing but a string and a nail, and every time the answer had been the same.",
    "After the storm we found planks on the beach, and a barrel, and a single shoe. My grandmother said that the sea "
    "always gives something back, only never what you have lost, and never when you are looking for it.",
)


@cache
def spoken(text: int, voice: int) -> Signal:
    """A text of ten seconds and more, from its first sound to its last, at BASE_LUFS; one channel."""
    name, speed, pitch = VOICES[voice]
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "speech.wav"
        command = ["espeak-ng", "-v", name, "-s", str(speed), "-p", str(pitch), "-w", str(path), TEXTS[text]]
        subprocess.run(command, check=True, capture_output=True)
        samples, rate_hz = soundfile.read(path)
    samples = soxr.resample(samples, rate_hz, RATE_HZ)
    sounding = np.flatnonzero(np.abs(samples) > 0.001)
    samples = samples[sounding[0] : sounding[-1] + 1, None]
    return samples * ratio(BASE_LUFS - reference.integrated_lufs(samples, RATE_HZ))


def episode(levels_lu: Sequence[float], gaps_s: Sequence[float], seed: int = 0) -> tuple[Signal, list[slice]]:
    """Passages of three voices in turn, at levels about BASE_LUFS, each after a gap; and the frames of each."""
    parts, places, at = [], [], 0
    for number, (level_lu, gap_s) in enumerate(zip(levels_lu, gaps_s, strict=True)):
        gap = np.zeros((round(gap_s * RATE_HZ), 1))
        passage = spoken(number % len(TEXTS), number % len(VOICES)) * ratio(level_lu)
        places.append(slice(at + len(gap), at + len(gap) + len(passage)))
        parts += [gap, passage]
        at = places[-1].stop
    whole = np.concatenate([*parts, np.zeros((RATE_HZ, 1))])
    floor = ratio(BASE_LUFS + FLOOR_DB) * np.random.default_rng(seed).standard_normal(whole.shape)
    return whole + floor, places
