"""Two programmes on one time axis: what the Before-and-after screen draws of them, and what changed in words."""

import math
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from nicelevel.core.hear import Score
from nicelevel.core.hear.changes import Changes
from nicelevel.core.measure.gating import HOPS_PER_SECOND, SHORT_TERM_HOPS, series_lufs
from nicelevel.core.measure.waveform import BINS_JOINED, FULL_SCALE, LEVELS
from nicelevel.core.units import ratio_from_db

from .as_json import null_unless_finite
from .reading_view import histogram, padded
from .words import change, length, level

MOST_COLUMNS = 4096
ALIKE_LU = 0.05
"""What differs by less is said to be the same."""

ON_EDGE = 1e-6
"""A column that begins with a bin begins with it, however its seconds were rounded."""

SHOWN_PLACES = 4


@dataclass(frozen=True)
class Side:
    """One of the two. energies: of every 10 ms, after gain and limiter; bins: gives its waveform's level of a number.

    The waveform is that of before gain and limiter: gain_db and ceiling_db bring it where it is; lowest: of every
    10 ms the limiter's lowest gain as a ratio, None where none works.
    """

    name: str
    energies: NDArray[np.float64]
    integrated_lufs: float
    duration_s: float
    bins: Callable[[int], NDArray[np.int16]]
    gain_db: float = 0.0
    ceiling_db: float | None = None
    lowest: NDArray[np.float32] | None = None


def columns_bytes(before: Side, after: Side, first_s: float, last_s: float, count: int) -> bytes:
    """Some seconds in so many columns, as float32, row after row.

    Lowest and highest sample before, lowest and highest after, each of all channels and ±1.0 at full scale, and the
    deepest reduction in dB; NaN where there is nothing.
    """
    edges_s = np.linspace(first_s, last_s, max(1, min(count, MOST_COLUMNS)) + 1)
    rows = [*_extremes(before, edges_s), *_extremes(after, edges_s), _reductions_db(after, edges_s)]
    return b"".join(row.astype("<f4").tobytes() for row in rows)


def _extremes(side: Side, edges_s: NDArray[np.float64]) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Lowest and highest of each column: from the coarsest bins that are no longer than it."""
    column_ms = 1000.0 * (edges_s[1] - edges_s[0])
    number = 0
    while number < LEVELS - 1 and BINS_JOINED ** (number + 1) <= column_ms:
        number += 1
    bins, bin_s = side.bins(number), BINS_JOINED**number / 1000.0
    starts = np.floor(edges_s[:-1] / bin_s + ON_EDGE).astype(int)
    inside = starts < len(bins)
    lows, highs = np.full(len(starts), np.nan), np.full(len(starts), np.nan)
    if inside.any():
        first, last = int(starts[0]), min(len(bins), max(int(starts[0]) + 1, math.ceil(edges_s[-1] / bin_s)))
        part = np.asarray(bins[first:last]) / FULL_SCALE
        at = np.minimum(starts[inside] - first, len(part) - 1)
        low, high = part[:, :, 0].min(axis=1), part[:, :, 1].max(axis=1)
        gains = _gains(side, np.arange(first, last) * bin_s, number)
        lows[inside] = np.minimum.reduceat(_held(low * gains, side), at)
        highs[inside] = np.maximum.reduceat(_held(high * gains, side), at)
    return lows, highs


def _gains(side: Side, at_s: NDArray[np.float64], number: int) -> NDArray[np.float64]:
    """The gain of each bin: of the finest ones with the limiter's curve; coarser ones are held under its ceiling."""
    gain = ratio_from_db(side.gain_db)
    if side.lowest is None or number > 0:
        return np.full(len(at_s), gain)
    hops = np.minimum((at_s * HOPS_PER_SECOND).astype(int), len(side.lowest) - 1)
    return gain * side.lowest[hops].astype(np.float64)


def _held(values: NDArray[np.float64], side: Side) -> NDArray[np.float64]:
    """Under the ceiling that a limiter holds."""
    if side.ceiling_db is None:
        return values
    most = ratio_from_db(side.ceiling_db)
    return np.clip(values, -most, most)


def _reductions_db(side: Side, edges_s: NDArray[np.float64]) -> NDArray[np.float64]:
    found = np.full(len(edges_s) - 1, np.nan)
    if side.lowest is None:
        return found
    starts = np.floor(edges_s[:-1] * HOPS_PER_SECOND + ON_EDGE).astype(int)
    inside = starts < len(side.lowest)
    if inside.any():
        last = min(len(side.lowest), max(int(starts[0]) + 1, math.ceil(edges_s[-1] * HOPS_PER_SECOND)))
        part = side.lowest[int(starts[0]) : last].astype(np.float64)
        at = np.minimum(starts[inside] - starts[0], len(part) - 1)
        found[inside] = -20.0 * np.log10(np.minimum.reduceat(part, at))
    return found


def both_series_bytes(before: Side, after: Side) -> bytes:
    """Short-term loudness before, then after, every 0.1 s as float32; NaN where there is none."""
    count = math.ceil(10 * max(before.duration_s, after.duration_s))
    return b"".join(padded(series_lufs(each.energies, SHORT_TERM_HOPS), count).tobytes() for each in (before, after))


def both_data(before: Side, after: Side, band_lufs: tuple[float, float] | None) -> dict[str, Any]:
    """What is drawn besides the columns and the series."""
    data = {
        "duration_s": max(before.duration_s, after.duration_s),
        "names": [before.name, after.name],
        "integrated_lufs": [before.integrated_lufs, after.integrated_lufs],
        "histograms": [histogram(before.energies), histogram(after.energies)],
        "band_lufs": band_lufs,
        "ceiling_db": after.ceiling_db,
        "limits": after.lowest is not None,
    }
    answer: dict[str, Any] = null_unless_finite(data)
    return answer


def changes_words(changes: Changes) -> list[str]:
    """What became of an older version, in sentences."""
    sentences = [_level_words(changes)]
    if changes.inserted_s is not None:
        verb = "put in" if changes.longer_s > 0 else "taken out"
        sentences.append(f"{_seconds(abs(changes.longer_s))} {verb} at about {length(changes.inserted_s)}.")
    elif abs(changes.longer_s) > 0.02:
        sentences.append(f"{_seconds(abs(changes.longer_s))} {'longer' if changes.longer_s > 0 else 'shorter'}.")
    if changes.places:
        shown = [f"from {length(first)} to {length(last)}" for first, last in changes.places[:SHOWN_PLACES]]
        more = len(changes.places) - len(shown)
        rest = f" and in {more} more places" if more else ""
        sentences.append(f"Different {', '.join(shown)}{rest}; otherwise the same, but for the level.")
    elif abs(changes.longer_s) <= 0.02:
        sentences.append("Nothing else is different: from start to end it goes the same way.")
    return sentences


def _level_words(changes: Changes) -> str:
    louder, gain = changes.louder_lu, changes.gain_db
    if not math.isfinite(louder):
        return "One of them is silent."
    if abs(louder) < ALIKE_LU:
        first = "As loud as before"
    else:
        first = f"{level(abs(louder))} LU {'louder' if louder > 0 else 'quieter'}"
    moved = f", true peak {change(changes.true_peak_db)} dB" if math.isfinite(changes.true_peak_db) else ""
    same = f"; what is the same moved by {change(gain)} dB" if abs(gain - louder) > 0.1 else ""
    return f"{first}{moved}{same}."


def _seconds(seconds: float) -> str:
    return f"{seconds:.1f} s" if seconds < 60 else length(seconds)


def blind_words(score: Score) -> str:
    """How a blind comparison went, with how often guessing does as well."""
    percent = 100.0 * score.probability
    chance = f"{percent:.1f} %" if percent >= 0.1 else "less than 0.1 %"
    result = f"{score.right} of {score.trials} right; guessing does as well {chance} of the time"
    if not score.is_enough:
        return f"{result}. Too few for a verdict."
    return f"{result}: {'the difference is heard' if score.is_heard else 'no difference is shown to be heard'}."
