"""The gain curve of the limiter, from the peaks of every millisecond.

The curve has a node at every border of two hops and is a cubic B-spline between: smooth, and nowhere above the
largest of the four nodes that it is made of. In the order of the signal:

- What each hop allows comes from its peak and the ceiling (`allowed_ratios`).
- The smallest of what is allowed over a look-ahead and a short hold. All hops that a node will touch are in that
  window, so that neither the smoothing nor the spline can pass what is allowed.
- Gain comes back by a steady rise in dB: fast after a single peak, slowly where peaks are dense.
- A Hann window as long as the look-ahead smooths the way down and up.

Only where a peak passes the ceiling is anything computed; elsewhere every node is exactly 1.
"""

import math
from dataclasses import dataclass
from functools import cache

import numpy as np
from numpy.typing import NDArray

from ..kernels import Floats, Integers, kernel, vectorised
from ..measure.envelope import ENVELOPE_HOPS_PER_SECOND, HOPS_PER_ENERGY, LOWEST_DB, STEPS_PER_DB
from ..units import ratios_from_db
from ..values import Limiter

BLOCK_HOPS = 160
BLOCK_ENERGIES = BLOCK_HOPS // HOPS_PER_ENERGY
HOLD_HOPS = 10
"""Gain waits so long before it comes back: half a period of 50 Hz, so that a low tone does not move it."""

SPLINE_HOPS = 3
"""A node touches the hops from this many before it to itself."""

ROW_NODES = BLOCK_HOPS + SPLINE_HOPS
"""All that a block of hops is touched by."""

DENSITY_S = 0.4
"""How far back the share of limited time is looked at that slows the way back."""

DENSITY_STEP = HOPS_PER_ENERGY / (DENSITY_S * ENVELOPE_HOPS_PER_SECOND)

DENSITY_LEFT = (1.0 - DENSITY_STEP) ** BLOCK_ENERGIES
"""What is left of the density after a block without limiting."""

SPARSE_SHARE, DENSE_SHARE, SLOWER = 0.25, 0.75, 16.0
"""Up to the first share gain comes back at full speed, from the second on so many times slower."""


@dataclass(frozen=True)
class Curve:
    """Kept only where it may not be 1: in blocks of BLOCK_HOPS.

    row_of: of each block the row of its nodes, -1 where all of them are 1; rows: × ROW_NODES, as ratios; hop k of the
    block has those from k to k + SPLINE_HOPS.
    """

    rows: NDArray[np.float32]
    row_of: NDArray[np.int64]


def gain_curve(codes: NDArray[np.uint16], block_codes: NDArray[np.int64], limiter: Limiter, gain_db: float) -> Curve:
    """The curve that holds peaks under a ceiling after a gain. codes: of every hop; block_codes: of the blocks."""
    lowest_code, allowed = allowed_ratios(limiter.ceiling_db - gain_db, limiter.soft_db, int(block_codes.max()))
    # Memory that is not written costs nothing.
    rows = np.empty((len(block_codes), ROW_NODES), np.float32)
    row_of = np.full(len(block_codes), -1)
    taps = limiter.look_ahead_ms
    windows = np.zeros((3, BLOCK_HOPS + _reach_hops(taps)), np.int32)
    rises, line = np.ones(taps - 1 + BLOCK_HOPS, np.float32), np.ones(BLOCK_HOPS + 2, np.float32)
    shape = hann(taps), steps_back(limiter.release_ms), _reach_hops(taps)
    count = make_curve(codes, block_codes, lowest_code, allowed, *shape, rows, row_of, windows, rises, line)
    return Curve(rows[:count], row_of)


def _reach_hops(look_ahead_ms: int) -> int:
    """How far the window of a hop goes on after it."""
    return HOLD_HOPS + look_ahead_ms + SPLINE_HOPS - 1


@cache
def steps_back(release_ms: float) -> NDArray[np.float32]:
    """By how much gain comes back in 1, 2, … hops, as ratios, for densities from 0 to 1; at best 6 dB in release_ms.

    Densities × hops of an energy.
    """
    density = np.linspace(0.0, 1.0, 65)
    slowness = np.clip((density - SPARSE_SHARE) / (DENSE_SHARE - SPARSE_SHARE), 0.0, 1.0)
    rise_db = 6.0 / release_ms / SLOWER**slowness
    rises_db = rise_db[:, None] * np.arange(1, HOPS_PER_ENERGY + 1)
    return ratios_from_db(rises_db).astype(np.float32)


@cache
def hann(look_ahead_ms: int) -> NDArray[np.float32]:
    """The smoothing window, one value for each hop of the look-ahead; its sum is 1."""
    window = np.sin(np.pi * np.arange(1, look_ahead_ms + 1) / (look_ahead_ms + 1)) ** 2
    shares: NDArray[np.float32] = (window / window.sum()).astype(np.float32)
    return shares


def allowed_ratios(ceiling_db: float, soft_db: float, highest_code: int) -> tuple[int, NDArray[np.float32]]:
    """What peaks allow, as a ratio for each code from the first one given on; below it 1.

    Without a soft knee the ceiling less the peak. With one, reduction begins half the knee under the ceiling, and is
    that of the ceiling alone from half the knee over it.
    """
    first_db = ceiling_db - soft_db / 2.0
    lowest = max(0, math.floor((first_db - LOWEST_DB) * STEPS_PER_DB))
    over_db = np.arange(lowest, max(lowest, highest_code) + 1) / STEPS_PER_DB + LOWEST_DB - ceiling_db
    reduction_db = np.maximum(0.0, over_db)
    if soft_db > 0.0:
        in_knee = np.abs(over_db) < soft_db / 2.0
        reduction_db[in_knee] = (over_db[in_knee] + soft_db / 2.0) ** 2 / (2.0 * soft_db)
    return lowest, ratios_from_db(-reduction_db).astype(np.float32)


@kernel
def make_curve(
    codes: Integers,
    block_codes: Integers,
    lowest_code: int,
    allowed: Floats,
    window: Floats,
    steps: Floats,
    reach: int,
    rows: Floats,
    row_of: Integers,
    windows: Integers,
    rises: Floats,
    line: Floats,
) -> int:
    """Write the nodes of each block in which the curve works into a row, and that row's number; how many rows.

    allowed: a ratio for every code from lowest_code on; steps: see `steps_back`. Scratch: windows: the highest code
    in the window of each hop of a block, and codes of a block with the reach, twice; rises: gains coming back, ones;
    line: nodes of a block, ones, and the state of the way back.
    """
    taps, blocks, count = len(window), len(block_codes), 0
    state = line[BLOCK_HOPS:]
    state[0], state[1] = 1.0, 0.0
    at_rest = True
    # The block before the first looks ahead into it.
    for block in range(-1, blocks):
        near = block_codes[max(0, block)]
        near = max(near, block_codes[max(0, block - 1)], block_codes[min(blocks - 1, block + 1)])
        first = block * BLOCK_HOPS - HOLD_HOPS
        limits = near > lowest_code and _limits(codes, first, BLOCK_HOPS + reach, lowest_code)
        still = state[0] >= 1.0 and not limits
        if not (still and at_rest):
            at_rest = still
            for at in range(taps - 1):
                rises[at] = rises[at + BLOCK_HOPS]
                at_rest = at_rest and rises[at] >= 1.0
        if at_rest:
            rises[:] = np.float32(1.0)
            line[:BLOCK_HOPS] = np.float32(1.0)
            state[1] *= DENSITY_LEFT
            continue
        row = rows[max(0, count)]
        for at in range(SPLINE_HOPS):
            row[at] = line[BLOCK_HOPS - SPLINE_HOPS + at]
        _highest_in_windows(codes, block * BLOCK_HOPS, reach, windows)
        _rise(windows, lowest_code, allowed, steps, state, rises[taps - 1 :])
        _smooth(rises, window, line)
        if block >= 0:
            nodes = row[SPLINE_HOPS:]
            for at in range(BLOCK_HOPS):
                nodes[at] = line[at]
            row_of[block] = count
            count += 1
    return count


@vectorised
def _limits(codes: Integers, first: int, count: int, lowest_code: int) -> bool:
    """Whether any of some hops is over a code."""
    part, over = codes[max(0, first) : max(0, first + count)], 0
    for at in range(len(part)):
        over += 1 if part[at] > lowest_code else 0
    return over > 0


@vectorised
def _highest_in_windows(codes: Integers, first: int, reach: int, windows: Integers) -> None:
    """The highest code in the window of each hop of a block, from the hold before it to the look-ahead after it.

    Of 2 neighbours first, of 4, and so on. windows: the result, and two rows of scratch.
    """
    found, part, other = windows[0], windows[1], windows[2]
    start = first - HOLD_HOPS
    inside, outside = max(0, -start), min(BLOCK_HOPS + reach, len(codes) - start)
    for at in range(BLOCK_HOPS + reach):
        part[at] = 0
    known = codes[start + inside : start + outside]
    for at in range(len(known)):
        part[inside + at] = known[at]
    width = 1
    while 2 * width <= reach + 1:
        _higher_of_two(part, width, BLOCK_HOPS + reach - width, other)
        part, other, width = other, part, 2 * width
    _higher_of_two(part, reach + 1 - width, BLOCK_HOPS, found)


@vectorised
def _higher_of_two(codes: Integers, shift: int, count: int, higher: Integers) -> None:
    moved = codes[shift:]
    for at in range(count):
        higher[at] = max(codes[at], moved[at])


@kernel
def _rise(windows: Integers, lowest_code: int, allowed: Floats, steps: Floats, state: Floats, rises: Floats) -> None:
    """What is allowed of each hop of a block, but never more than gain may have come back since the hop before.

    First as if nothing had been limited before these 10 ms, so that only one result in ten waits for the one before.
    """
    found = windows[0]
    ratio, density = state[0], state[1]
    for start in range(0, BLOCK_HOPS, HOPS_PER_ENERGY):
        limits = 0.0
        for at in range(start, start + HOPS_PER_ENERGY):
            limits = 1.0 if found[at] > lowest_code else limits
        density += DENSITY_STEP * (limits - density)
        back = steps[int(density * (len(steps) - 1))]
        alone = np.float32(1.0)
        for at in range(HOPS_PER_ENERGY):
            code = found[start + at]
            most = allowed[code - lowest_code] if code > lowest_code else np.float32(1.0)
            alone = min(alone * back[0], most)
            rises[start + at] = min(ratio * back[at], alone)
        ratio = rises[start + HOPS_PER_ENERGY - 1]
    state[0], state[1] = ratio, density


@vectorised
def _smooth(rises: Floats, window: Floats, line: Floats) -> None:
    """Each hop of a block as the mean of itself and those before it; exactly 1 where all of them are."""
    for at in range(BLOCK_HOPS):
        line[at] = np.float32(1.0)
    for tap in range(len(window)):
        weight, part = window[tap], rises[tap:]
        for at in range(BLOCK_HOPS):
            line[at] -= weight * (np.float32(1.0) - part[at])
