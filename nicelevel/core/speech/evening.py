"""The gain that evens speech out."""

from bisect import bisect_left, bisect_right
from collections.abc import Sequence
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from ..kernels import kernel
from ..runs import runs
from .activity import is_active, is_speaking, levels_of
from .listening import Floats, Heard
from .passages import Passage, loudness_of, passages_of

Amount = Literal["light", "medium", "strong"]

LEFT_LU: dict[Amount, float] = {"light": 2.5, "medium": 1.2, "strong": 0.4}
"""So far from the level of the whole a passage may stay: less than is promised, for no passage is found exactly."""

SPEAKING_DB_PER_S = 5.5
PAUSE_DB_PER_S = 100.0
INTO_PAUSE_HOPS = 34
HOPS_PER_SECOND = 100

EARLY_HOPS = 8
"""What is louder is expected so much before it was found to begin, and so much after its end."""

MOST_GAIN_DB, MOST_MORE_DB = 24.0, 4.0
"""Of a passage; and more than it needs, for what it has too little of while the gain still rises."""

ROUNDS, NEAR_LU = 12, 0.02
SMALLEST_DB = 0.25
"""A gain that never goes farther is none."""


def even_out(heard: Heard, amount: Amount) -> Floats:
    """The gain at the middle of each 10 ms, in dB; nothing but zeros where nobody speaks or all is even."""
    nothing = np.zeros(len(heard.energies))
    if not len(nothing):
        return nothing
    levels = levels_of(heard.energies)
    active = is_active(levels)
    speaking = is_speaking(active)
    found = passages_of(heard, levels, active, speaking)
    if not any(each.is_speech for each in found):
        return nothing
    whole = loudness_of(np.concatenate([heard.energies[each.first : each.last] for each in found if each.is_speech]))
    wanted = [_wanted_db(each, whole, amount) for each in found]
    gains = _solved(heard.energies, found, wanted, speaking)
    return gains if np.abs(gains).max() >= SMALLEST_DB else nothing


def _wanted_db(passage: Passage, whole_lufs: float, amount: Amount) -> float:
    """What brings a passage so near to the whole that it may stay there."""
    if not passage.is_speech:
        return 0.0
    off_lu, left_lu = passage.lufs - whole_lufs, LEFT_LU[amount]
    return float(np.clip(np.clip(off_lu, -left_lu, left_lu) - off_lu, -MOST_GAIN_DB, MOST_GAIN_DB))


def _solved(
    energies: Floats, found: Sequence[Passage], wanted: Sequence[float], speaking: NDArray[np.bool_]
) -> Floats:
    """A curve under which each passage has the level that was wanted, as far as the gain may move at all."""
    asked = np.array(wanted)
    for _ in range(ROUNDS):
        gains = _curve(found, asked, speaking)
        short = np.array(
            [each_db - _moved_db(energies, gains, each) for each, each_db in zip(found, wanted, strict=True)]
        )
        if np.abs(short).max() < NEAR_LU:
            return gains
        asked = np.clip(asked + short, np.array(wanted) - 0.5, np.array(wanted) + MOST_MORE_DB)
    return _curve(found, asked, speaking)


def _moved_db(energies: Floats, gains: Floats, passage: Passage) -> float:
    part = slice(passage.first, passage.last)
    return loudness_of(energies[part] * 10.0 ** (gains[part] / 10.0)) - passage.lufs


def _curve(found: Sequence[Passage], asked: Floats, speaking: NDArray[np.bool_]) -> Floats:
    """The highest gain that passes none of what is asked for, and moves no faster than it may."""
    most = np.full(len(speaking), np.inf)
    for passage, gain_db in zip(found, asked, strict=True):
        part = slice(max(0, passage.first - EARLY_HOPS), passage.last + EARLY_HOPS)
        most[part] = np.minimum(most[part], gain_db)
    rises = np.where(speaking, SPEAKING_DB_PER_S / HOPS_PER_SECOND, 0.0)
    falls = np.where(speaking, SPEAKING_DB_PER_S / HOPS_PER_SECOND, 0.0)
    ends = sorted(passage.last for passage in found)
    for first, last in runs(~speaking):
        # Before the first word the gain is that of the first word; from one passage to the next it may move at once.
        is_between = bisect_left(ends, first - EARLY_HOPS) < bisect_right(ends, last)
        fall_db_per_s = PAUSE_DB_PER_S if is_between else SPEAKING_DB_PER_S
        falls[first : min(last, first + INTO_PAUSE_HOPS)] = fall_db_per_s / HOPS_PER_SECOND if first else 0.0
    bound(most, rises, falls)
    return most


@kernel
def bound(gains: Floats, rises: Floats, falls: Floats) -> None:
    """Lower what rises or falls faster than it may at each place, in place."""
    for at in range(1, len(gains)):
        gains[at] = min(gains[at], gains[at - 1] + rises[at])
    for at in range(len(gains) - 2, -1, -1):
        gains[at] = min(gains[at], gains[at + 1] + falls[at])
