"""Speech in passages of one level each: a speaker, a microphone, a distance."""

import itertools
import math
from collections.abc import Iterator, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ..kernels import Integers, kernel
from ..measure.gating import MOMENTARY_HOPS, STEP_HOPS, gating_blocks, integrated_lufs
from ..runs import runs
from .listening import Floats, Heard

UNIT_HOPS = 50
"""Levels are compared by half seconds of speech."""

SHORTEST_UNITS, MOST_UNITS = 5, 1_200
SAME_LU = 1.0
PENALTY = 1.5
"""A change of level is believed where it explains so many times the usual variance, for each e-fold of units."""

LOOK_HOPS, LOOK_APART_HOPS, LEAST_HOPS = 150, 5, 20
"""A change is looked for so far about where half seconds tell it, with so much speech on either side."""

LEAST_GAP_HOPS, PAUSE_HOPS, GAP_SHARE = 3, 40, 0.15
"""A gap between words, of so much at least, is preferred to what tells more of the variance; a pause by so much."""

ONSET_HOPS, ONSET_PERCENTILE, ONSET_DB = 100, 98.0, 1.0
"""A louder passage begins where, so long before its gap at most, the level first passes by so much what was usual."""

SMALLEST_MODULATION_DB, LARGEST_FLATNESS, FLATNESS_PERCENTILE = 3.0, 0.2, 25.0
FLATNESS_HOPS = 5


@dataclass(frozen=True)
class Passage:
    """From `first` to before `last`, in 10 ms, with the gaps between its words."""

    first: int
    last: int
    lufs: float
    is_speech: bool


def passages_of(
    heard: Heard, levels: Floats, active: NDArray[np.bool_], speaking: NDArray[np.bool_]
) -> list[Passage]:
    """All that is spoken, in order. Levels within one differ as they do in any speech."""
    units = [unit for first, last in runs(speaking) for unit in _units(first + np.flatnonzero(active[first:last]))]
    if len(units) < SHORTEST_UNITS:
        return []
    lengths = np.array([len(unit) for unit in units])
    energies = np.add.reduceat(heard.energies[np.concatenate(units)], np.cumsum(lengths) - lengths) / lengths
    units_db = 10.0 * np.log10(np.maximum(energies, 1e-12))
    changes = [_place_of_change(int(units[at][0]), levels, active) for at in _changes(units_db)]
    found = list(_between(changes, heard, levels, active))
    while number := _most_alike(found):
        found[number - 1 : number + 1] = [
            _passage(heard, levels, active, found[number - 1].first, found[number].last)
        ]
    return found


def _most_alike(found: Sequence[Passage]) -> int | None:
    """Of passages that hardly differ from the one before, that which differs least: they are one."""
    off_lu = {number: abs(each.lufs - found[number - 1].lufs) for number, each in enumerate(found) if number}
    least = min(off_lu, key=lambda number: off_lu[number], default=None)
    return least if least and off_lu[least] < SAME_LU else None


def _units(places: NDArray[np.intp]) -> Iterator[NDArray[np.intp]]:
    """About half a second each of what sounds in one go, so that none reaches over a pause."""
    if len(places):
        yield from np.array_split(places, max(1, round(len(places) / UNIT_HOPS)))


def _changes(units_db: Floats) -> list[int]:
    """The units at which another level begins: the partition with the least squares and the fewest changes."""
    steps = np.diff(units_db)
    usual = float(np.median(np.abs(steps)) / 0.6745) ** 2 / 2.0 if len(steps) else 0.0
    penalty = PENALTY * max(usual, 0.25) * math.log(max(3, len(units_db)))
    before = np.zeros(len(units_db) + 1, np.int64)
    costs = np.zeros(len(units_db) + 1)
    partition(units_db, penalty, SHORTEST_UNITS, MOST_UNITS, costs, before)
    found, at = [], int(before[-1])
    while at > 0:
        found.append(at)
        at = int(before[at])
    return found[::-1]


@kernel
def partition(units: Floats, penalty: float, shortest: int, longest: int, costs: Floats, before: Integers) -> None:
    """Dynamic programming: the least cost of all up to each unit, and where its last part begins.

    costs, before: one longer than units, zeros.
    """
    for end in range(1, len(units) + 1):
        costs[end] = 1e300
        total, squares, count = 0.0, 0.0, 0.0
        for first in range(end - 1, max(-1, end - longest - 1), -1):
            total += units[first]
            squares += units[first] * units[first]
            count += 1.0
            if end - first < shortest and first > 0:
                continue
            cost = costs[first] + squares - total * total / count + (penalty if first > 0 else 0.0)
            if cost < costs[end] and (first == 0 or costs[first] < 1e299):
                costs[end], before[end] = cost, first


def _place_of_change(about: int, levels: Floats, active: NDArray[np.bool_]) -> int:
    """The place before and after which the levels differ least from their means; rather one where nobody speaks."""
    begin, end = max(0, about - LOOK_HOPS), min(len(levels), about + LOOK_HOPS)
    gaps = [
        (begin + first, begin + last) for first, last in runs(~active[begin:end]) if last - first >= LEAST_GAP_HOPS
    ]
    wins = dict.fromkeys(range(begin, end, LOOK_APART_HOPS), 0.0)
    wins |= {(first + last) // 2: GAP_SHARE * min(1.0, (last - first) / PAUSE_HOPS) for first, last in gaps}
    shares = _told_by(levels[begin:end], active[begin:end])
    told = {place: float(shares[place - begin]) for place in wins}
    best = max(wins, key=lambda place: told[place] + wins[place])
    return best if told[best] > 0.0 else about


def _told_by(levels: Floats, active: NDArray[np.bool_]) -> Floats:
    """The share of the variance of what sounds that a change at each place explains; 0 too near to an end."""
    sounding = np.where(active, levels - levels.mean(), 0.0)
    counts, sums, squares = (
        np.concatenate(([0.0], np.cumsum(each))) for each in (active.astype(np.float64), sounding, sounding**2)
    )
    before, after = counts[:-1], counts[-1] - counts[:-1]
    enough = (before >= LEAST_HOPS) & (after >= LEAST_HOPS)
    left = (
        squares[-1] - sums[:-1] ** 2 / np.maximum(before, 1.0) - (sums[-1] - sums[:-1]) ** 2 / np.maximum(after, 1.0)
    )
    together = squares[-1] - sums[-1] ** 2 / max(1.0, counts[-1])
    shares: Floats = np.where(enough, 1.0 - left / max(1e-9, together), 0.0)
    return shares


def _between(changes: list[int], heard: Heard, levels: Floats, active: NDArray[np.bool_]) -> Iterator[Passage]:
    edges = [0, *changes, len(active)]
    for number, begin in enumerate(edges[1:-1], 1):
        edges[number] = _onset(levels, active, edges[number - 1], begin, edges[number + 1])
    for begin, end in itertools.pairwise(edges):
        places = np.flatnonzero(active[begin:end])
        if len(places):
            yield _passage(heard, levels, active, begin + int(places[0]), begin + int(places[-1]) + 1)


def _passage(heard: Heard, levels: Floats, active: NDArray[np.bool_], first: int, last: int) -> Passage:
    is_speech = _is_speech(heard, levels, active, first, last)
    return Passage(first, last, loudness_of(heard.energies[first:last]), is_speech)


def _onset(levels: Floats, active: NDArray[np.bool_], previous: int, begin: int, end: int) -> int:
    """Where what follows a change begins: earlier than the change itself where it is loud there already."""
    before = levels[previous:begin][active[previous:begin]]
    if not len(before) or levels[begin:end].max(initial=-np.inf) <= before.max():
        return begin
    first = max(previous, begin - ONSET_HOPS)
    for pause_from, pause_to in runs(~active[first : min(end, begin + PAUSE_HOPS)]):
        if pause_to - pause_from >= PAUSE_HOPS and first + pause_from <= begin:
            return begin  # what was said before a pause is not of what follows it
    passing = np.flatnonzero(levels[first:begin] > np.percentile(before, ONSET_PERCENTILE) + ONSET_DB)
    return first + int(passing[0]) if len(passing) else begin


def loudness_of(energies: Floats) -> float:
    """Gated loudness of a stretch, as BS.1770 has it, with blocks as far apart."""
    if len(energies) < MOMENTARY_HOPS + STEP_HOPS:
        return 10.0 * math.log10(max(float(energies.mean()), 1e-12)) - 0.691
    return integrated_lufs(gating_blocks(energies))


def _is_speech(heard: Heard, levels: Floats, active: NDArray[np.bool_], first: int, last: int) -> bool:
    """Syllables make its level move, and voices have harmonics."""
    sounding = levels[first:last][active[first:last]]
    flatness = heard.flatness[first // FLATNESS_HOPS : -(-last // FLATNESS_HOPS)]
    if float(np.std(sounding)) < SMALLEST_MODULATION_DB or not len(flatness):
        return False
    return float(np.percentile(flatness, FLATNESS_PERCENTILE)) < LARGEST_FLATNESS
