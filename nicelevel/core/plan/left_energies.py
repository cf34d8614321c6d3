"""What a gain curve leaves of the energies of a signal, from its hops. No audio is touched."""

import numpy as np
from numpy.typing import NDArray

from ..kernels import Floats, Integers, vectorised
from ..measure.envelope import ENVELOPE_HOPS_PER_SECOND, HOPS_PER_ENERGY
from ..measure.hop_files import Hops
from ..measure.k_weighting import low_band_biquad
from ..measure.low_band import FULL_SCALE as LOW_FULL_SCALE
from ..values import Source
from .gain_curve import BLOCK_HOPS, SPLINE_HOPS, Curve

LEAD_HOPS = 64
"""The low band's filter begins so long before it is asked: it forgets what was before."""

BENDING = 0.97
"""Where no node is lower, a curve moves so little that the low band's energy follows its mean square."""

LOW_UNIT = 1.0 / LOW_FULL_SCALE

HEAD_SHARE = 0.5
"""About what plain energy is of K-weighted energy over the low band, whose head lifts it by up to 4 dB."""

# Rows of the scratch that energies are computed in, each a block long; the rest is the low band's memory.
_BEFORE, _AFTER, _PLAIN, _GAINS, _LOW, _OTHER_LOW, _MEANS, _TOTAL, _LEFT, _PLAIN_TOTAL, _PLAIN_LEFT, _ROWS = range(12)


def low_band_filter(source: Source) -> NDArray[np.float64]:
    """The K-weighting of the low band with its output put into the recursion: the fewest results wait for another.

    b0, e1, e2, a1, a2; after y = b0 · x + p: p = e1 · x + q - a1 · p and q = e2 · x - a2 · p.
    """
    b0, b1, b2, a1, a2 = low_band_biquad(ENVELOPE_HOPS_PER_SECOND, source.sample_rate_hz)
    return np.array([b0, b1 - a1 * b0, b2 - a2 * b0, a1, a2])


def change_energies(
    curve: Curve,
    hops: Hops,
    biquad: NDArray[np.float64],
    weights: NDArray[np.float64],
    energies: NDArray[np.float64],
    squares: NDArray[np.float64],
) -> None:
    """Change energies and squares, as in `Curves`, to what is left of them where a curve works.

    biquad: see `low_band_filter`; weights: of the channels.
    """
    ones = np.ones(LEAD_HOPS + SPLINE_HOPS, np.float32)
    scratch, memory = np.zeros((_ROWS, BLOCK_HOPS)), np.zeros((len(weights) + 1, 4))
    bands = hops.weighted, hops.low_band, biquad, weights
    leave_energies(curve.rows, curve.row_of, *bands, energies, squares, ones, scratch, memory)


@vectorised
def leave_energies(
    rows: Floats,
    row_of: Integers,
    weighted: Floats,
    low_band: Integers,
    biquad: Floats,
    weights: Floats,
    energies: Floats,
    squares: Floats,
    ones: Floats,
    scratch: Floats,
    memory: Floats,
) -> None:
    """See `change_energies`.

    ones: nodes of LEAD_HOPS without limiting; scratch: _ROWS × a block; memory: channels and a spare one × 4.
    """
    hops, filtered = len(weighted), False
    for block in range(len(row_of)):
        if row_of[block] < 0 or block * BLOCK_HOPS >= hops:
            filtered = False
            continue
        first, last = block * BLOCK_HOPS, min((block + 1) * BLOCK_HOPS, hops)
        part = rows[row_of[block], : last - first + SPLINE_HOPS]
        mean_squares(part, scratch[_MEANS])
        bends = bends_anywhere(part)
        if bends and not filtered:
            lead = min(first, LEAD_HOPS)
            memory[:] = 0.0
            led = rows[row_of[block - 1], BLOCK_HOPS - lead :] if block and row_of[block - 1] >= 0 else ones
            filter_low(low_band[first - lead : first], led, biquad, weights, memory, scratch)
        if bends:
            filter_low(low_band[first:last], part, biquad, weights, memory, scratch)
        else:
            scratch[:_GAINS] = 0.0
        filtered = bends
        _apply(weighted[first:last], scratch)
        at = first // HOPS_PER_ENERGY
        _change(scratch, energies[at:], squares[at:], (last - first) // HOPS_PER_ENERGY)


@vectorised
def bends_anywhere(nodes: Floats) -> bool:
    """Whether any of some nodes is under BENDING. Counted, for the lowest would be looked for one by one."""
    count = 0
    for at in range(len(nodes)):
        count += 1 if nodes[at] < BENDING else 0
    return count > 0


@vectorised
def mean_squares(nodes: Floats, means: Floats) -> None:
    """Mean square of the curve over each hop (arithmetic: integrals of the products of a cubic B-spline's basis)."""
    first, second, third, fourth = nodes, nodes[1:], nodes[2:], nodes[SPLINE_HOPS:]
    for at in range(len(nodes) - SPLINE_HOPS):
        a, b, c, d = float(first[at]), float(second[at]), float(third[at]), float(fourth[at])
        mean = 20.0 * (a * a + d * d) + 1188.0 * (b * b + c * c)
        means[at] = (mean + 2.0 * (129.0 * (a * b + c * d) + 60.0 * (a * c + b * d) + a * d + 933.0 * b * c)) / 5040.0


@vectorised
def filter_low(
    low_band: Integers, nodes: Floats, biquad: Floats, weights: Floats, memory: Floats, scratch: Floats
) -> None:
    """Energies of the low band in some hops: K-weighted without and with the curve, and as it is.

    nodes: those of these hops; biquad: see `low_band_filter`; memory: channels and a spare one × 4, of both filters,
    carried on; scratch: the first three rows are written, the next three are used.
    """
    before, after, plain, gains = scratch[_BEFORE], scratch[_AFTER], scratch[_PLAIN], scratch[_GAINS]
    second, third = nodes[1:], nodes[2:]
    for hop in range(len(low_band)):
        gains[hop] = (float(nodes[hop]) + 4.0 * float(second[hop]) + float(third[hop])) / 6.0
    for hop in range(len(low_band)):
        before[hop], after[hop], plain[hop] = 0.0, 0.0, 0.0
    for one in range(0, len(weights), 2):
        # The last of an odd number goes with a silent one.
        two = min(one + 1, len(weights) - 1)
        weight = weights[two] if two > one else 0.0
        if weights[one] > 0.0 or weight > 0.0:
            low, other_low = scratch[_LOW, : len(low_band)], scratch[_OTHER_LOW, : len(low_band)]
            _take_low(low_band, one, weights[one], low, plain)
            _take_low(low_band, two, weight, other_low, plain)
            _filter_two(low, other_low, gains, biquad, memory[one], memory[one + 1], before, after)


@vectorised
def _take_low(low_band: Integers, channel: int, weight: float, low: Floats, plain: Floats) -> None:
    """The samples of a channel by the root of its weight; what they hold is added where it has one."""
    counts, root = 1.0 if weight > 0.0 else 0.0, weight**0.5
    for hop in range(len(low)):
        low[hop] = LOW_UNIT * float(low_band[hop, channel])
    for hop in range(len(low)):
        plain[hop] += counts * (low[hop] * low[hop])
    for hop in range(len(low)):
        low[hop] *= root


@vectorised
def _filter_two(
    low: Floats,
    other_low: Floats,
    gains: Floats,
    biquad: Floats,
    memory: Floats,
    other_memory: Floats,
    before: Floats,
    after: Floats,
) -> None:
    """Add the energies of two channels: four signals through a biquad, none of which waits for another.

    memory: two values of each filter, carried on.
    """
    b0, e1, e2, a1, a2 = biquad[0], biquad[1], biquad[2], biquad[3], biquad[4]
    p, q, r, s = memory[0], memory[1], memory[2], memory[3]
    t, u, v, w = other_memory[0], other_memory[1], other_memory[2], other_memory[3]
    for hop in range(len(low)):
        x, y, gain = low[hop], other_low[hop], gains[hop]
        out, other = b0 * x + p, b0 * y + t
        p, q = (e1 * x + q) - a1 * p, e2 * x - a2 * p
        t, u = (e1 * y + u) - a1 * t, e2 * y - a2 * t
        x, y = x * gain, y * gain
        curved, other_curved = b0 * x + r, b0 * y + v
        r, s = (e1 * x + s) - a1 * r, e2 * x - a2 * r
        v, w = (e1 * y + w) - a1 * v, e2 * y - a2 * v
        before[hop] += out * out + other * other
        after[hop] += curved * curved + other_curved * other_curved
    memory[0], memory[1], memory[2], memory[3] = p, q, r, s
    other_memory[0], other_memory[1], other_memory[2], other_memory[3] = t, u, v, w


@vectorised
def _apply(weighted: Floats, scratch: Floats) -> None:
    """What some hops hold before and after the curve, K-weighted and plain.

    The mean square of the curve changes all but the low band, which changes by what its filter says.
    """
    before, after, plain, means = scratch[_BEFORE], scratch[_AFTER], scratch[_PLAIN], scratch[_MEANS]
    total, left = scratch[_TOTAL], scratch[_LEFT]
    plain_total, plain_left = scratch[_PLAIN_TOTAL], scratch[_PLAIN_LEFT]
    # Each loop writes one array: with several the compiler takes one hop at a time.
    for hop in range(len(weighted)):
        total[hop] = weighted[hop]
    for hop in range(len(weighted)):
        left[hop] = (total[hop] - before[hop]) * means[hop] + after[hop]
    for hop in range(len(weighted)):
        plain_total[hop] = HEAD_SHARE * (total[hop] - before[hop]) + plain[hop]
    for hop in range(len(weighted)):
        plain_left[hop] = plain_total[hop] * means[hop]


@vectorised
def _change(scratch: Floats, energies: Floats, squares: Floats, count: int) -> None:
    """Change so many energies and squares by what is left of theirs in the scratch."""
    for energy in range(count):
        first = energy * HOPS_PER_ENERGY
        total, left = sum_of_energy(scratch[_TOTAL, first:]), sum_of_energy(scratch[_LEFT, first:])
        plain, plain_left = sum_of_energy(scratch[_PLAIN_TOTAL, first:]), sum_of_energy(scratch[_PLAIN_LEFT, first:])
        if total > 0.0:
            energies[energy] *= max(0.0, left) / total
        if plain > 0.0:
            squares[energy] *= min(1.0, max(0.0, plain_left / plain))


@vectorised
def sum_of_energy(hops: Floats) -> float:
    """What the hops of an energy hold together."""
    total = 0.0
    for hop in range(HOPS_PER_ENERGY):
        total += hops[hop]
    return total
