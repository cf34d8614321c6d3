"""Two programmes on one time axis: what the Before-and-after screen draws of them, and what changed in words."""

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from nicelevel.core.hear import Score
from nicelevel.core.hear.changes import Changes
from nicelevel.core.hear.differences import Band, Differences, Edit
from nicelevel.core.measure.gating import HOPS_PER_SECOND, SHORT_TERM_HOPS, series_lufs
from nicelevel.core.measure.waveform import BINS_JOINED, FULL_SCALE, LEVELS
from nicelevel.core.signals import Timeline
from nicelevel.core.signals.timeline import UNMOVED
from nicelevel.core.units import ratio_from_db
from nicelevel.core.values import Place

from .as_json import null_unless_finite
from .reading_view import histogram, padded
from .words import change, figure, length, level, moment

MOST_COLUMNS = 4096
ALIKE_LU = 0.05
"""What differs by less is said to be the same."""

ON_EDGE = 1e-6
"""A column that begins with a bin begins with it, however its seconds were rounded."""

SHOWN_PLACES, SHOWN_BANDS = 4, 3

NOTHING_LEFT_DB, ROUNDING_DB, THROUGHOUT_DB = -100.0, -60.0, -40.0
"""How much is left of one version without the other: nothing, rounding and dither, and something at all times."""

BAND_MOVED_DB = 0.2
"""A band is named that became louder or quieter by this, beside the whole."""

TOP_BAND_HZ = 16_000.0


@dataclass(frozen=True)
class Side:
    """One of the two. energies: of every 10 ms, after gain and limiter; bins: gives its waveform's level of a number.

    The waveform is that of before gain and limiter: gain_db and ceiling_db bring it where it is; lowest: of every
    10 ms the limiter's lowest gain as a ratio, None where none works; timeline: where a time of the axis, which is
    that of what is drawn before, lies in this side.
    """

    name: str
    energies: NDArray[np.float64]
    integrated_lufs: float
    duration_s: float
    bins: Callable[[int], NDArray[np.int16]]
    gain_db: float = 0.0
    ceiling_db: float | None = None
    lowest: NDArray[np.float32] | None = None
    timeline: Timeline = UNMOVED


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
    lows, highs = np.full(len(edges_s) - 1, np.nan), np.full(len(edges_s) - 1, np.nan)
    columns = _Columns.of(side, edges_s, bin_s, len(bins))
    if columns:
        part = np.asarray(bins[columns.first : columns.last]) / FULL_SCALE
        low, high = part[:, :, 0].min(axis=1), part[:, :, 1].max(axis=1)
        gains = _gains(side, np.arange(columns.first, columns.last) * bin_s, number)
        lows[columns.shown] = columns.reduced(np.minimum, _held(low * gains, side))
        highs[columns.shown] = columns.reduced(np.maximum, _held(high * gains, side))
    return lows, highs


@dataclass(frozen=True)
class _Columns:
    """Which values of a side lie in which column. first, last: of all that are needed; shown: the columns that have
    any; starts, ends: of each, counted from the first.
    """

    first: int
    last: int
    shown: NDArray[np.bool_]
    starts: NDArray[np.int64]
    ends: NDArray[np.int64]

    @classmethod
    def of(cls, side: Side, edges_s: NDArray[np.float64], step_s: float, count: int) -> "_Columns | None":
        """None where the side has nothing there. step_s, count: of its values."""
        own = side.timeline.to_outputs(edges_s[:-1]) / step_s + ON_EDGE
        shown = own < count  # not a number is not less
        if not shown.any():
            return None
        starts = np.floor(own[shown]).astype(np.int64)
        longest = math.ceil((edges_s[1] - edges_s[0]) / step_s)
        ends = np.minimum(starts + max(1, longest), count)
        ends[:-1] = np.clip(starts[1:], starts[:-1] + 1, ends[:-1])
        first = int(starts[0])
        return cls(first, int(ends.max()), shown, starts - first, ends - first)

    def reduced(self, reduce: np.ufunc, values: NDArray[np.float64]) -> NDArray[np.float64]:
        """The lowest or highest value of each column that has any."""
        padded_values = np.append(values, values[-1])
        found: NDArray[np.float64] = reduce.reduceat(
            padded_values, np.stack([self.starts, self.ends], axis=1).ravel()
        )
        return found[::2]


def _gains(side: Side, at_s: NDArray[np.float64], number: int) -> NDArray[np.float64]:
    """The gain of each bin: of the finest ones with the limiter's curve; coarser ones are held under its ceiling."""
    gain = ratio_from_db(side.gain_db)
    if side.lowest is None or number > 0:
        return np.full(len(at_s), gain)
    hops = np.minimum((at_s * HOPS_PER_SECOND).astype(int), len(side.lowest) - 1)
    gains: NDArray[np.float64] = gain * side.lowest[hops].astype(np.float64)
    return gains


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
    columns = _Columns.of(side, edges_s, 1.0 / HOPS_PER_SECOND, len(side.lowest))
    if columns:
        part = side.lowest[columns.first : columns.last].astype(np.float64)
        found[columns.shown] = -20.0 * np.log10(columns.reduced(np.minimum, part))
    return found


def both_series_bytes(before: Side, after: Side) -> bytes:
    """Short-term loudness before, then after, every 0.1 s as float32; NaN where there is none."""
    count = math.ceil(10 * max(before.duration_s, after.duration_s))
    return b"".join(_series(each, count).tobytes() for each in (before, after))


def _series(side: Side, count: int) -> NDArray[np.float32]:
    """Where the axis has them."""
    series: NDArray[np.float32] = padded(series_lufs(side.energies, SHORT_TERM_HOPS), count)
    if side.timeline == UNMOVED:
        return series
    own = side.timeline.to_outputs((np.arange(count) + 0.5) / 10) * 10
    there = own < count
    found = np.full(count, np.nan, np.float32)
    found[there] = series[own[there].astype(np.int64)]
    return found


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


def changes_words(changes: Changes, found: Differences | None = None, problem: str | None = None) -> list[str]:
    """What became of an older version, in sentences.

    changes: told from the curves of both; found: from their audio, None where that is still to come; problem: why it
    cannot be.
    """
    if found is None or not found.is_same:
        other = "They are not the same recording to the sample: only their loudness is told." if found else None
        is_all = found is not None or problem is not None
        return [_level_words(changes), *_curves_words(changes, is_all), *filter(None, (problem, other))]
    inverted = ", its polarity turned over" if found.is_inverted else ""
    moved = f"What is the same moved by {change(found.gain_db, 2)} dB{inverted}."
    return [_level_words(changes), moved, *map(_edit_words, found.edits), *_difference_words(found)]


def _curves_words(changes: Changes, is_all: bool) -> list[str]:
    """What the loudness over time says, which hides what does not move it."""
    sentences = []
    if changes.inserted_s is not None:
        verb = "put in" if changes.longer_s > 0 else "taken out"
        sentences.append(f"{_seconds(abs(changes.longer_s))} {verb} at about {length(changes.inserted_s)}.")
    elif abs(changes.longer_s) > 0.02:
        sentences.append(f"{_seconds(abs(changes.longer_s))} {'longer' if changes.longer_s > 0 else 'shorter'}.")
    if changes.places:
        sentences.append(f"Its loudness goes another way {_places_words(changes.places)}.")
    elif abs(changes.longer_s) <= 0.02 and is_all:
        sentences.append("Its loudness goes the same way from start to end; what does not move it is not told.")
    return sentences


def _edit_words(edit: Edit) -> str:
    return f"{abs(edit.by_s):.2f} s {'put in' if edit.by_s > 0 else 'taken out'} at {moment(edit.at_s)}."


def _difference_words(found: Differences) -> list[str]:
    """How much differs beside the level, in which bands and where."""
    if found.difference_db <= NOTHING_LEFT_DB:
        return ["Nothing else is different: brought to one level, nothing is left of one without the other."]
    under = f"{figure(-found.difference_db)} dB under the programme"
    if found.difference_db <= ROUNDING_DB and not found.places:
        return [f"Nothing else is different but rounding: brought to one level, what is left lies {under}."]
    widest = max(found.bands, key=lambda band: band.difference_db, default=None)
    most = (
        f", most clearly {_band_words(widest)}" if widest and widest.difference_db > found.difference_db + 2.0 else ""
    )
    sentences = [f"Brought to one level, what differs lies {under}{most}."]
    moved = sorted(found.bands, key=lambda band: -abs(band.level_db))[:SHOWN_BANDS]
    sentences += [_moved_words(band) for band in moved if abs(band.level_db) >= BAND_MOVED_DB]
    if found.usual_db > THROUGHOUT_DB:
        sentences.append("It differs throughout.")
    if found.places:
        sentences.append(
            f"{'Most' if found.usual_db > THROUGHOUT_DB else 'Different'} {_places_words(found.places)}."
        )
    return sentences


def _moved_words(band: Band) -> str:
    where = _band_words(band)
    word = "louder" if band.level_db > 0 else "quieter"
    return f"{where[0].upper()}{where[1:]} it became {figure(abs(band.level_db))} dB {word}."


def _band_words(band: Band) -> str:
    low, high = (_hz(each) for each in (band.low_hz, band.high_hz))
    if band.low_hz <= 0.0:
        return f"below {high}"
    return f"above {low}" if band.high_hz >= TOP_BAND_HZ else f"from {low} to {high}"


def _hz(hz: float) -> str:
    return f"{hz / 1000:g} kHz" if hz >= 1000 else f"{hz:g} Hz"


def _places_words(places: Sequence[Place]) -> str:
    shown = [f"from {moment(first)} to {moment(last)}" for first, last in places[:SHOWN_PLACES]]
    more = len(places) - len(shown)
    return ", ".join(shown) + (f" and in {more} more places" if more else "")


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
