"""K-weighting at any rate (ITU-R BS.1770-5, Annex 1)."""

import math

import numpy as np
from numpy.typing import NDArray

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
    """What the energies of a scan are to be multiplied by: it leaves out the first coefficient of each biquad."""
    return float(biquads[0, 0] * biquads[1, 0]) ** 2


def low_band_biquad(low_rate_hz: int, sample_rate_hz: int) -> NDArray[np.float64]:
    """b0, b1, b2, a1, a2 of what K-weighting does to low frequencies, at a lower rate than the programme's.

    The high pass alone, for the head leaves them as they are; its gain is that at the programme's rate.
    """
    row = np.array(_rlb(low_rate_hz))
    row[:3] *= _rlb_a0(sample_rate_hz) / _rlb_a0(low_rate_hz)
    return row


def _rlb_a0(sample_rate_hz: int) -> float:
    k = math.tan(math.pi * RLB_HZ / sample_rate_hz)
    return 1.0 + k / RLB_Q + k * k
