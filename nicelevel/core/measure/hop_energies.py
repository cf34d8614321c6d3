"""Loudness alone, where nothing else of a meter is asked for: a third of its time."""

import numpy as np
from numpy.typing import NDArray

from ..files.blocks import Block
from ..kernels import Floats, kernel
from ..values import Shape
from .gating import HOPS_PER_SECOND
from .k_weighting import coefficients

SMALLEST_STATE = 1e-30
"""Memory below this goes to zero in silence, or it would decay into slow denormal numbers."""


class HopEnergies:
    """K-weighted mean square of each complete 10 ms, summed over channels with their weights, as a meter keeps it."""

    def __init__(self, shape: Shape) -> None:
        self._rate_hz, self._weights = shape.rate_hz, np.array(shape.layout.weights)
        self._biquads = coefficients(shape.rate_hz)
        pairs = -(-shape.channels // 2)
        self._states, self._sums = np.zeros((pairs, 2, 4)), np.zeros((pairs, 1))
        self._energies = np.zeros(shape.frames * HOPS_PER_SECOND // shape.rate_hz)
        self._done = 0

    def feed(self, block: Block) -> None:
        """Take the next frames × channels, ±1.0 at full scale; blocks may be of any size."""
        columns = np.ascontiguousarray(block.T, np.float64)
        for number in range(len(self._states)):
            pair = slice(2 * number, 2 * number + 2)
            add_energies(
                columns[pair],
                self._biquads,
                self._weights[pair],
                self._states[number],
                self._sums[number],
                self._done,
                self._rate_hz,
                self._energies,
            )
        self._done += len(block)

    def values(self) -> NDArray[np.float64]:
        edges = np.arange(len(self._energies) + 1) * self._rate_hz // HOPS_PER_SECOND
        energies: NDArray[np.float64] = self._energies / np.diff(edges)
        return energies


@kernel
def add_energies(
    columns: Floats,
    biquads: Floats,
    weights: Floats,
    states: Floats,
    sums: Floats,
    done: int,
    rate_hz: int,
    energies: Floats,
) -> None:
    """Sums of K-weighted squares over each 10 ms, of one or two channels side by side.

    columns: channels × frames, from frame `done` on; states: 2 × 4; sums: of the 10 ms that goes on; energies: are
    added to.
    """
    other = len(columns) - 1
    b0, b1, b2, a1, a2 = biquads[0]
    d1, d2, e1, e2 = biquads[1, 1], biquads[1, 2], biquads[1, 3], biquads[1, 4]
    s1, s2, s3, s4 = states[0]
    t1, t2, t3, t4 = states[1]
    first, second = weights[0], weights[other] if other else 0.0
    total = sums[0]
    hop = done * 100 // rate_hz
    edge = (hop + 1) * rate_hz // 100
    if edge <= done:
        hop += 1
        edge = (hop + 1) * rate_hz // 100
    for at in range(columns.shape[1]):
        x, y = columns[0, at], columns[other, at]
        if x == 0.0 and abs(s1) + abs(s2) + abs(s3) + abs(s4) < SMALLEST_STATE:
            s1, s2, s3, s4 = 0.0, 0.0, 0.0, 0.0
        if y == 0.0 and abs(t1) + abs(t2) + abs(t3) + abs(t4) < SMALLEST_STATE:
            t1, t2, t3, t4 = 0.0, 0.0, 0.0, 0.0
        head, beside = b0 * x + s1, b0 * y + t1
        s1, s2 = b1 * x - a1 * head + s2, b2 * x - a2 * head
        t1, t2 = b1 * y - a1 * beside + t2, b2 * y - a2 * beside
        low, lower = head + s3, beside + t3
        s3, s4 = d1 * head - e1 * low + s4, d2 * head - e2 * low
        t3, t4 = d1 * beside - e1 * lower + t4, d2 * beside - e2 * lower
        total += first * low * low + second * lower * lower
        if done + at + 1 == edge:
            if hop < len(energies):
                energies[hop] += total
            total = 0.0
            hop += 1
            edge = (hop + 1) * rate_hz // 100
    states[0, 0], states[0, 1], states[0, 2], states[0, 3] = s1, s2, s3, s4
    states[1, 0], states[1, 1], states[1, 2], states[1, 3] = t1, t2, t3, t4
    sums[0] = total
