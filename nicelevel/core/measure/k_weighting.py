"""K-weighting at any rate, and the weighted energy of every hop (ITU-R BS.1770-5, Annex 1)."""

import math

import numpy as np
from numpy.typing import NDArray

from ..kernels import Floats, Integers, vectorised

# Analogue prototypes behind the two biquads that the standard gives for 48 kHz: a high shelf for the
# head and a high pass (revised low-frequency B curve). The values reproduce the printed coefficients
# to twelve digits at 48 kHz; the tests hold them to that.
HEAD_HZ, HEAD_GAIN_DB, HEAD_Q, HEAD_BAND_POWER = (
    1681.974450955533,
    3.999843853973347,
    0.7071752369554196,
    0.4996667741545416,
)
RLB_HZ, RLB_Q = 38.13547087602444, 0.5003270373238773

SMALLEST_STATE = 1e-30
"""Filter memory below this is set to zero, or silence would decay into slow denormal numbers."""


def coefficients(sample_rate_hz: int) -> NDArray[np.float64]:
    """Both biquads as rows of b0, b1, b2, a1, a2, by the bilinear transform.

    Shape 2 × 5, float64. At rates under 32 kHz the response in Hz differs by up to 0.2 LU from that at
    48 kHz, as in every meter that is built on the same prototypes.
    """
    return np.array([_head(sample_rate_hz), _rlb(sample_rate_hz)])


def _head(sample_rate_hz: int) -> list[float]:
    k = math.tan(math.pi * HEAD_HZ / sample_rate_hz)
    high = 10.0 ** (HEAD_GAIN_DB / 20.0)
    band = high**HEAD_BAND_POWER
    a0 = 1.0 + k / HEAD_Q + k * k
    return [
        (high + band * k / HEAD_Q + k * k) / a0,
        2.0 * (k * k - high) / a0,
        (high - band * k / HEAD_Q + k * k) / a0,
        2.0 * (k * k - 1.0) / a0,
        (1.0 - k / HEAD_Q + k * k) / a0,
    ]


def _rlb(sample_rate_hz: int) -> list[float]:
    k = math.tan(math.pi * RLB_HZ / sample_rate_hz)
    a0 = 1.0 + k / RLB_Q + k * k
    return [1.0, -2.0, 1.0, 2.0 * (k * k - 1.0) / a0, (1.0 - k / RLB_Q + k * k) / a0]


@vectorised
def weighted_energies(
    planes: Floats, edges: Integers, weights: Floats, biquads: Floats, state: Floats, energies: Floats
) -> None:
    """Filter every channel and add its weighted mean square to each hop.

    planes: channels × frames; edges: hop borders in frames, one more than there are hops; weights: per
    channel; biquads: 2 × 5; state: channels × 4, carried on; energies: per hop, added to.
    Transposed direct form II with the output put into the recursion, two channels side by side: neither
    waits for the other.
    """
    b0, b1, b2, a1, a2 = biquads[0]
    c0, c1, c2, d1, d2 = biquads[1]
    e1, e2, f1, f2 = b1 - a1 * b0, b2 - a2 * b0, c1 - d1 * c0, c2 - d2 * c0
    channels = len(planes)
    for one in range(0, channels, 2):
        other = min(one + 1, channels - 1)
        weight, other_weight = weights[one], weights[other] if other > one else 0.0
        plane, other_plane = planes[one], planes[other]
        p, q, r, s = state[one]
        t, u, v, w = state[other]
        for hop in range(len(edges) - 1):
            total, other_total = 0.0, 0.0
            for frame in range(edges[hop], edges[hop + 1]):
                x, other_x = float(plane[frame]), float(other_plane[frame])
                y, other_y = b0 * x + p, b0 * other_x + t
                p, q = (e1 * x + q) - a1 * p, e2 * x - a2 * p
                t, u = (e1 * other_x + u) - a1 * t, e2 * other_x - a2 * t
                z, other_z = c0 * y + r, c0 * other_y + v
                r, s = (f1 * y + s) - d1 * r, f2 * y - d2 * r
                v, w = (f1 * other_y + w) - d1 * v, f2 * other_y - d2 * v
                total += z * z
                other_total += other_z * other_z
            energies[hop] += (weight * total + other_weight * other_total) / (edges[hop + 1] - edges[hop])
            if abs(p) + abs(r) + abs(t) + abs(v) < SMALLEST_STATE:
                p, q, r, s, t, u, v, w = 0.0, 0.0, 0.0, 0.0, 0.0, 0.0, 0.0, 0.0
        state[other, 0], state[other, 1], state[other, 2], state[other, 3] = t, u, v, w
        state[one, 0], state[one, 1], state[one, 2], state[one, 3] = p, q, r, s
