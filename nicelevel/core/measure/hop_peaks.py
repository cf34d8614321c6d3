"""The true peak of every hop, which is what a limiter works on.

Four points per sample: those half-way between samples by the filter of `true_peak`, those between samples and
half-way points by a short one, for in the closer grid the band ends at half of its half rate. Through the highest
points goes a sine, whose top is the peak: exact to 0.01 dB up to 0.45 of the rate.
"""

from typing import Any

import numpy as np
from numpy.typing import NDArray

from ..ahead import beside
from ..files.codes import Coding, take_channel
from ..kernels import Floats, Integers, kernel, vectorised
from ..units import ratio_from_db
from .true_peak import HALF_TAPS, HALF_WAY, L1_NORM, TAPS, halfway_filter

QUARTER_TAPS = 12
_QUARTER = halfway_filter(QUARTER_TAPS)[: QUARTER_TAPS // 2].astype(np.float32)
"""One half of a symmetric filter, the outermost weight first: 0.003 dB at 0.46 of the rate, -71 dB of images."""

_SIDE = QUARTER_TAPS // 4
BEFORE = _SIDE + 1
"""So many half-way points are computed before a run of hops, and after it: the short filter reaches over them."""

KEPT_DB = 24.0
"""How far under the highest peak so far those of single hops are searched: no limiter goes deeper."""

RUN_HOPS = 8
TILE = 64

_CLOSE = np.float32(0.92)
"""Between four points per sample the wave rises by 8 % at most."""


class HopPeakMeter:
    """Gives the true peaks of hops whose neighbourhood is in the buffer."""

    def __init__(self, coding: Coding, longest_hop_frames: int) -> None:
        self._scale = coding.scale
        self._find = find_hop_peaks.using(read=coding.reads)
        frames = -(-(RUN_HOPS * longest_hop_frames + 2 * BEFORE) // TILE) * TILE + TILE
        self._scratch = [(np.zeros(frames + TAPS, np.float32), np.zeros((4, frames), np.float32)) for _ in range(2)]

    def peaks(
        self, codes: Integers, edges: Integers, magnitudes: Floats, first_hop: int, last_hop: int, highest: float
    ) -> NDArray[np.float64]:
        """The true peak of each of some hops, the largest of any channel, ±1.0 at full scale.

        highest: the highest of the programme so far, in units of a code: where a hop is more than KEPT_DB under it,
        its peak may be that of the samples. The others as in `TruePeakMeter.feed`.
        """
        found = np.zeros(last_hop - first_hop)
        reach_hops = 1 + (HALF_TAPS + BEFORE) // max(1, int(np.diff(edges).min()))
        floor = highest * ratio_from_db(-KEPT_DB)

        def search(first: int, last: int, half: int) -> None:
            hops, part = np.array([first, last, reach_hops]), found[first - first_hop : last - first_hop]
            for channel, largest in enumerate(magnitudes):
                arrays = (codes, edges, largest, hops, part, HALF_WAY, _QUARTER, *self._scratch[half])
                self._find(*arrays, channel, floor)

        middle = (first_hop + last_hop) // 2
        with beside(lambda: search(middle, last_hop, 1)) as second:
            search(first_hop, middle, 0)
            second.result()
        return found * self._scale


@kernel
def find_hop_peaks(
    codes: Integers,
    edges: Integers,
    largest: Floats,
    hops: Integers,
    found: Floats,
    half_way: Floats,
    quarter: Floats,
    samples: Floats,
    points: Floats,
    channel: int,
    floor: float,
) -> None:
    """Raise `found`, one value for each hop, to the true peak that a channel has in it.

    largest: magnitude of the samples of every hop; hops: the first, the one after the last, and over how many on
    either side the filters reach; half_way, quarter: the filters; samples, points: scratch, see `HopPeakMeter`.
    """
    first_hop, last_hop, reach = hops[0], hops[1], hops[2]
    first = first_hop
    while first < last_hop:
        last = first
        while last < last_hop and last - first < RUN_HOPS:
            so_far = max(found[last - first_hop], largest[last])
            found[last - first_hop] = so_far
            if not _may_pass(largest, last, reach, max(so_far, floor)):
                break
            last += 1
        if last == first:
            first += 1
            continue
        start = edges[first]
        frames = edges[last] - start
        _interpolate(codes, start, channel, frames, half_way, quarter, samples, points)
        for hop in range(first, last):
            begin, end = edges[hop] - start + BEFORE - 1, edges[hop + 1] - start + BEFORE + 1
            own = samples[begin + HALF_TAPS - 1 : end + HALF_TAPS - 1]
            rows = points[1, begin:end], points[2, begin:end], points[3, begin:end], points[0, : end - begin]
            highest = _highest(own, rows[0], rows[1], rows[2], rows[3])
            found[hop - first_hop] = max(found[hop - first_hop], highest)
        first = last


@kernel
def _may_pass(largest: Floats, hop: int, reach: int, peak: float) -> bool:
    """Whether a hop, with all that the filter reaches over, can hold a value over the peak."""
    for near in range(max(0, hop - reach), min(len(largest), hop + reach + 1)):
        if largest[near] * L1_NORM > peak:
            return True
    return False


@kernel
def _interpolate(
    codes: Integers,
    start: int,
    channel: int,
    frames: int,
    half_way: Floats,
    quarter: Floats,
    samples: Floats,
    points: Floats,
) -> None:
    """Put three points of each of some frames into rows of `points`: a quarter, a half and three quarters after it.

    Samples and points begin BEFORE frames, and half a filter, before the start. Of frames outside, only the next on
    either side are right.
    """
    columns = frames + 2 * BEFORE
    take_channel(codes, start - BEFORE - (HALF_TAPS - 1), channel, samples[: columns + TAPS - 1])
    for at in range(0, columns, TILE):
        _half_way_points(samples[at:], half_way, points[2, at:])
    for at in range(0, columns, TILE):
        one, three = points[1, at + _SIDE :], points[3, at + _SIDE :]
        _quarter_points(samples[at + HALF_TAPS - 1 :], points[2, at:], quarter, one, three)


@vectorised
def _half_way_points(samples: Floats, half_way: Floats, points: Floats) -> None:
    """TILE results. A fixed number of them lets the processor take many at once.

    Eight taps at a time: fewer would fetch and put away each result more often, more do not fit its registers.
    """
    for at in range(TILE):
        points[at] = np.float32(0.0)
    for tap in range(0, TAPS, 8):
        a, b, c, d = half_way[tap], half_way[tap + 1], half_way[tap + 2], half_way[tap + 3]
        e, f, g, h = half_way[tap + 4], half_way[tap + 5], half_way[tap + 6], half_way[tap + 7]
        x = samples[tap:]
        for at in range(TILE):
            first = points[at] + ((a * x[at] + b * x[at + 1]) + (c * x[at + 2] + d * x[at + 3]))
            points[at] = first + ((e * x[at + 4] + f * x[at + 5]) + (g * x[at + 6] + h * x[at + 7]))


@vectorised
def _quarter_points(x: Floats, h: Floats, quarter: Floats, one: Floats, three: Floats) -> None:
    """TILE results, of which the first lies after sample _SIDE.

    x, h: samples and half-way points, which alternate in the closer grid. Each weight serves two of its points.
    """
    f, e, d, c, b, a = quarter[0], quarter[1], quarter[2], quarter[3], quarter[4], quarter[5]
    for n in range(TILE):
        near = a * (x[n + 3] + h[n + 3]) + b * (h[n + 2] + x[n + 4])
        far = c * (x[n + 2] + h[n + 4]) + d * (h[n + 1] + x[n + 5])
        one[n] = near + far + (e * (x[n + 1] + h[n + 5]) + f * (h[n] + x[n + 6]))
    for n in range(TILE):
        near = a * (h[n + 3] + x[n + 4]) + b * (x[n + 3] + h[n + 4])
        far = c * (h[n + 2] + x[n + 5]) + d * (x[n + 2] + h[n + 5])
        three[n] = near + far + (e * (h[n + 1] + x[n + 6]) + f * (x[n + 1] + h[n + 6]))


@vectorised
def _highest(first: Floats, second: Floats, third: Floats, fourth: Floats, tops: Floats) -> float:
    """Largest magnitude of all frames but the first and the last, on the grid and of the waves through it.

    first: samples; the next three: the points after them; tops: scratch. Each a row of its own: of rows of one array
    the compiler does not know that their values lie side by side.
    """
    highest = np.float32(0.0)
    for at in range(1, len(first) - 1):
        a, b, c, d = abs(first[at]), abs(second[at]), abs(third[at]), abs(fourth[at])
        a = a if a > b else b
        c = c if c > d else d
        tops[at] = a if a > c else c
        highest = tops[at] if tops[at] > highest else highest
    close, found = _CLOSE * highest, highest
    for at in range(1, len(first) - 1):
        if tops[at] < close:
            continue
        a, b, c, d = abs(first[at]), abs(second[at]), abs(third[at]), abs(fourth[at])
        before, after = abs(fourth[at - 1]), abs(first[at + 1])
        found = max(found, _summit(before, a, b), _summit(a, b, c), _summit(b, c, d), _summit(c, d, after))
    return float(found)


@vectorised
def _summit(before: Any, here: Any, after: Any) -> Any:
    """Top of the wave through three magnitudes where the middle one is the largest, else that one.

    Through three neighbouring points goes one sine: with c its cosine over their distance, before + after = 2 c here,
    and its amplitude follows. Where it is so slow that little is between the points, a parabola is as good.
    """
    bend, slope = np.float32(2.0) * here - before - after, after - before
    if before > here or after > here or bend <= np.float32(0.0):
        return here
    if bend < np.float32(0.02) * here:
        return here + slope * slope / (np.float32(8.0) * bend)
    cosine = np.float32(0.5) * (before + after) / here
    sine_squared = np.float32(1.0) - cosine * cosine
    return np.sqrt(here * here + np.float32(0.25) * slope * slope / sine_squared)
