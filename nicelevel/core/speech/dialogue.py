"""Where somebody speaks, also over music, and how loud that is: told second by second from how a voice moves.

Syllables come and go four times a second, in all bands and in each a little differently; notes hold or fade. What
each second and a half has of that is weighed; the weights were fitted to synthetic speech over synthetic music
(docs/dialogue.md, `bench/speech.py`).
"""

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ..measure.gating import MOMENTARY_HOPS, STEP_HOPS, gating_blocks, integrated_lufs
from ..measure.hop_energies import HopEnergies
from ..runs import runs
from ..signals import Signal
from .voice_bands import FRAMES_PER_SECOND, VoiceBands

Floats = NDArray[np.float64]

BLOCK_FRAMES = 1 << 16
WINDOW_FRAMES, STEP_FRAMES = 60, 10
"""A second and a half, every quarter of one, in frames of the bands."""

AT_ONCE = 512
DEEPEST_DB = 30.0
"""What lies further under the top of a window counts as this: the depth of its silence tells nothing."""

SYLLABLES_HZ = (2.5, 8.0)
SMOOTH_STEPS = 5
HOPS_PER_SECOND = 100

# Printed by `bench/speech.py`; in the order of `_features`.
MEANS = np.array([5.0669, 0.4068, -4.6914, 3.4336, 4.9726, 0.2556, 6.4268, 0.3914, 5.04])
SPREADS = np.array([3.5487, 0.2461, 2.383, 1.2036, 1.9104, 0.2746, 3.4297, 0.1946, 3.1683])
LINEAR = np.array([-4.3813, 1.0249, 1.4661, 4.1513, 2.0086, 0.5205, 2.0126, 0.7777, 3.0633])
SQUARE = np.array([1.4902, -0.626, -0.3679, -2.0911, -2.4457, -1.0966, 0.3305, -0.2575, -1.0211])
BIAS = 2.6042


@dataclass(frozen=True)
class Dialogue:
    """lufs: gated loudness of what is spoken, with all that sounds beside it; -inf where nobody speaks. share: of the
    time; places: from and to, in seconds.
    """

    lufs: float
    share: float
    places: tuple[tuple[float, float], ...]


def dialogue_of(signal: Signal) -> Dialogue:
    """One pass over a signal. Raises as its blocks."""
    shape = signal.shape
    bands, energies = VoiceBands(shape), HopEnergies(shape)
    for block in signal.blocks(BLOCK_FRAMES):
        bands.feed(block)
        energies.feed(block)
    seconds = shape.frames / shape.rate_hz
    speaks = is_spoken(bands.powers(), bands.flatness())
    places = tuple(_places(speaks, seconds))
    spoken_s = sum(last - first for first, last in places)
    return Dialogue(
        spoken_lufs(gating_blocks(energies.values()), places), spoken_s / seconds if seconds else 0.0, places
    )


def is_spoken(powers: Floats, flatness: Floats) -> NDArray[np.bool_]:
    """Of every quarter of a second whether somebody speaks in it. powers: frames × bands; flatness: of each frame."""
    short = WINDOW_FRAMES - len(powers)
    if not len(powers):
        return np.zeros(0, bool)
    if short > 0:
        powers = np.pad(powers, ((0, short), (0, 0)), mode="edge")
        flatness = np.pad(flatness, (0, short), mode="edge")
    told = probabilities(features(powers, flatness))
    padded = np.pad(told, SMOOTH_STEPS // 2, mode="edge")
    smooth = np.convolve(padded, np.full(SMOOTH_STEPS, 1.0 / SMOOTH_STEPS), "valid")
    spoken: NDArray[np.bool_] = smooth > 0.5
    return spoken


def probabilities(found: Floats) -> Floats:
    """That somebody speaks, by the features of each window."""
    z = (found - MEANS) / SPREADS
    told: Floats = 1.0 / (1.0 + np.exp(-(z @ LINEAR + z**2 @ SQUARE + BIAS)))
    return told


def features(powers: Floats, flatness: Floats) -> Floats:
    """What tells a voice from music, of each window: windows × 9."""
    count = (len(powers) - WINDOW_FRAMES) // STEP_FRAMES + 1
    levels = np.lib.stride_tricks.sliding_window_view(10.0 * np.log10(powers + 1e-12), WINDOW_FRAMES, axis=0)
    whole = np.lib.stride_tricks.sliding_window_view(10.0 * np.log10(powers.sum(axis=1) + 1e-12), WINDOW_FRAMES)
    flat = np.lib.stride_tricks.sliding_window_view(flatness, WINDOW_FRAMES)
    parts = []
    for first in range(0, count, AT_ONCE):
        here = slice(first * STEP_FRAMES, min(count, first + AT_ONCE) * STEP_FRAMES, STEP_FRAMES)
        parts.append(_features(levels[here], whole[here], flat[here]))
    return np.concatenate(parts)


def _features(levels: Floats, whole: Floats, flat: Floats) -> Floats:
    """levels: windows × bands × frames in dB; whole, flat: windows × frames."""
    top = np.percentile(whole, 95, axis=1, keepdims=True)
    levels = np.maximum(levels, np.percentile(levels, 95, axis=2, keepdims=True) - DEEPEST_DB)
    low = (whole < top - 10.0).mean(axis=1)
    loud_flat = np.where(whole > top - 15.0, flat, np.nan)
    whole = np.maximum(whole, top - DEEPEST_DB)
    moved = levels - levels.mean(axis=2, keepdims=True)
    own = moved - moved.mean(axis=1, keepdims=True)
    spreads = levels.std(axis=2)
    return np.stack(
        [
            whole.std(axis=1),
            _syllabic(whole),
            np.log(np.nanpercentile(loud_flat, 25, axis=1) + 1e-4),
            np.abs(np.diff(levels, axis=2)).mean(axis=(1, 2)),
            np.sqrt((own**2).mean(axis=(1, 2))),
            low,
            np.median(spreads, axis=1),
            np.median(_syllabic(levels), axis=1),
            np.percentile(spreads, 20, axis=1),
        ],
        axis=1,
    )


def _syllabic(levels: Floats) -> Floats:
    """The share of what moves that moves as syllables do; over the last axis."""
    moved = (levels - levels.mean(axis=-1, keepdims=True)) * np.hanning(WINDOW_FRAMES)
    power = np.abs(np.fft.rfft(moved, axis=-1)) ** 2
    hz = np.fft.rfftfreq(WINDOW_FRAMES, 1.0 / FRAMES_PER_SECOND)
    syllables = (hz >= SYLLABLES_HZ[0]) & (hz <= SYLLABLES_HZ[1])
    share: Floats = power[..., syllables].sum(axis=-1) / (power[..., 1:].sum(axis=-1) + 1.0)
    return share


def _places(speaks: NDArray[np.bool_], seconds: float) -> list[tuple[float, float]]:
    """A window speaks for the quarter of a second in its middle; the first and the last for all up to the end."""
    apart, middle = STEP_FRAMES / FRAMES_PER_SECOND, WINDOW_FRAMES / FRAMES_PER_SECOND / 2.0
    found = []
    for first, last in runs(speaks):
        begin = 0.0 if first == 0 else middle + (first - 0.5) * apart
        end = seconds if last == len(speaks) else middle + (last - 0.5) * apart
        if begin < seconds:
            found.append((begin, min(end, seconds)))
    return found


def spoken_lufs(blocks: Floats, places: Sequence[tuple[float, float]]) -> float:
    """Loudness of speech with both gates (ITU-R BS.1770-5). blocks: of 400 ms, every 100 ms of the whole."""
    spoken = spoken_blocks(blocks, places)
    return integrated_lufs(spoken) if len(spoken) else -math.inf


def spoken_blocks(blocks: Floats, places: Sequence[tuple[float, float]]) -> Floats:
    """Those that lie in speech by their middle."""
    middles_s = (np.arange(len(blocks)) * STEP_HOPS + MOMENTARY_HOPS / 2.0) / HOPS_PER_SECOND
    spoken = np.zeros(len(blocks), bool)
    for first_s, last_s in places:
        spoken |= (middles_s >= first_s) & (middles_s < last_s)
    return blocks[spoken]
