"""K-weighting at any rate (ITU-R BS.1770-5, Annex 1)."""

import math

import numpy as np
from numpy.typing import NDArray

from ..kernels import Floats, vectorised

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


def energy_gain(biquads: NDArray[np.float64]) -> float:
    """What the energies of `k_weight` are to be multiplied by: it leaves out the first coefficient of each biquad."""
    return float(biquads[0, 0] * biquads[1, 0]) ** 2


@vectorised
def k_weight(tile: Floats, frames: int, biquads: Floats, filters: Floats) -> None:
    """Filter some frames of every lane, and sum the squares of what comes out.

    tile: frames × lanes; biquads: 2 × 5; filters: 5 × lanes: four of memory, carried on, and the sum, begun anew.
    Transposed direct form II with the output put into the recursion, so that the fewest results wait for another.
    """
    lanes = tile.shape[1]
    first, second = biquads[0], biquads[1]
    a1, a2, d1, d2 = first[3], first[4], second[3], second[4]
    e1, e2 = first[1] / first[0] - a1, first[2] / first[0] - a2
    f1, f2 = second[1] / second[0] - d1, second[2] / second[0] - d2
    p, q, r, s, energy = filters[0], filters[1], filters[2], filters[3], filters[4]
    for lane in range(lanes):
        energy[lane] = 0.0
    for frame in range(frames):
        samples = tile[frame]
        for lane in range(lanes):
            x, was_p, was_r = float(samples[lane]), p[lane], r[lane]
            y = x + was_p
            z = y + was_r
            p[lane] = (e1 * x + q[lane]) - a1 * was_p
            q[lane] = e2 * x - a2 * was_p
            r[lane] = (f1 * y + s[lane]) - d1 * was_r
            s[lane] = f2 * y - d2 * was_r
            energy[lane] += z * z
    for row in range(4):
        for lane in range(lanes):
            filters[row, lane] = filters[row, lane] if abs(filters[row, lane]) > SMALLEST_STATE else 0.0
