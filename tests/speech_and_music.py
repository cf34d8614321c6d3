"""Synthetic voices and synthetic music of several kinds, all at the same loudness: for telling one from the other."""

import numpy as np
from numpy.typing import NDArray

from nicelevel.demo import sounds

from . import reference, signals
from .episodes import BASE_LUFS, RATE_HZ, TEXTS, VOICES, spoken
from .signals import Signal, ratio

KINDS = ("strings", "bells", "brass", "sea", "drums", "bands", "melody", "song")
NOTES_HZ = (98.0, 110.0, 130.8, 146.8, 164.8, 196.0, 220.0, 261.6, 293.7, 329.6, 392.0, 440.0, 523.3)


def talk(seed: int, seconds: float) -> tuple[Signal, NDArray[np.float64]]:
    """Texts by three voices, half a second to five apart; one channel, and of each frame 1 where it is said."""
    generator = np.random.default_rng(seed)
    sound = np.zeros((round(seconds * RATE_HZ), 1))
    said, at_s = np.zeros(len(sound)), generator.uniform(0.0, 2.0)
    while True:
        text = spoken(int(generator.integers(len(TEXTS))), int(generator.integers(len(VOICES))))
        first = round(at_s * RATE_HZ)
        if first + len(text) > len(sound):
            return sound, said
        sound[first : first + len(text)] = text
        said[first : first + len(text)] = 1.0
        at_s += len(text) / RATE_HZ + generator.uniform(0.5, 5.0)


def music(kind: str, seconds: float, seed: int) -> Signal:
    """One channel at BASE_LUFS."""
    generator = np.random.default_rng([seed, *kind.encode()])
    made = np.asarray(_played(kind, seconds, generator, seed), np.float64)
    sound = made.mean(axis=1) if made.ndim == 2 else made
    frames = round(seconds * RATE_HZ)
    sound = np.pad(sound[:frames], (0, max(0, frames - len(sound))))[:, None]
    return sound * ratio(BASE_LUFS - reference.integrated_lufs(sound, RATE_HZ))


def _played(kind: str, seconds: float, generator: np.random.Generator, seed: int) -> Signal:
    if kind == "strings":
        chords = [list(generator.choice(NOTES_HZ[1:10], 3, replace=False)) for _ in range(4)]
        return sounds.strings(chords, seconds, RATE_HZ, generator)
    if kind == "bells":
        return sounds.bells(list(2.0 * generator.choice(NOTES_HZ[5:], 8)), seconds, RATE_HZ, generator)
    if kind == "brass":
        return sounds.brass(list(generator.choice(NOTES_HZ[:5], 6)), seconds, RATE_HZ)
    if kind == "sea":
        return sounds.sea(seconds, RATE_HZ, generator)
    if kind == "drums":
        return signals.drums(seconds, RATE_HZ, seed)
    if kind == "bands":
        return signals.programme(seconds, RATE_HZ, 1, seed)
    if kind == "melody":
        return _melody(seconds, generator)
    parts = zip((0.7, 1.0, 0.7), ("drums", "melody", "strings"), strict=True)
    return sum((share * music(each, seconds, seed) for share, each in parts), start=np.zeros((1, 1)))


def _melody(seconds: float, generator: np.random.Generator) -> Signal:
    """Plucked notes, two to six a second."""
    sound, at_s = np.zeros(round(seconds * RATE_HZ)), 0.0
    while at_s < seconds:
        hz, first = generator.choice(NOTES_HZ[6:]), round(at_s * RATE_HZ)
        time = np.arange(min(len(sound) - first, round(0.8 * RATE_HZ))) / RATE_HZ
        tones = [np.sin(2 * np.pi * hz * number * time) / number for number in range(1, 7)]
        sound[first : first + len(time)] += sum(tones) * np.exp(-time / 0.25) * np.minimum(1.0, time / 0.004)
        at_s += generator.choice((0.25, 0.5, 1 / 6))
    return sound
