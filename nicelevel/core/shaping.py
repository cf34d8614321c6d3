"""Noise shaping: the filter that moves the error of rounding to where the ear hears it least.

The filter is the linear predictor of noise that has the ear's sensitivity as its spectrum: of all filters of its
length it leaves the least weighted error (Gerzon and Craven, "Optimal noise shaping and dither of digital signals",
AES 87, 1989: the mean of the log spectrum cannot be lowered, only spread). Sensitivity is the threshold in quiet by
Terhardt's formula ("Calculating virtual pitch", 1979; the constants from memory).
"""

from functools import cache

import numpy as np
from numpy.typing import NDArray

TAPS = 12
RANGE_DB = 26.0
"""The ear's sensitivity counts down to so far under its best: the error is not driven up without need elsewhere."""

POINTS = 4096
STEADINESS = 1e-4
"""A little white noise added to the sensitivity, so that the equations are well conditioned."""


def threshold_in_quiet_db(hz: NDArray[np.float64]) -> NDArray[np.float64]:
    """Sound pressure level that is just heard, at 20 Hz and more."""
    khz = np.maximum(hz, 20.0) / 1000.0
    level: NDArray[np.float64] = 3.64 * khz**-0.8 - 6.5 * np.exp(-0.6 * (khz - 3.3) ** 2) + 1e-3 * khz**4
    return level


def sensitivity(hz: NDArray[np.float64]) -> NDArray[np.float64]:
    """The ear's sensitivity to noise by power, 1 at its best."""
    threshold_db = threshold_in_quiet_db(hz)
    heard: NDArray[np.float64] = 10.0 ** (-np.minimum(threshold_db - threshold_db.min(), RANGE_DB) / 10.0)
    return heard


@cache
def shaping_filter(sample_rate_hz: int) -> tuple[float, ...]:
    """What is taken off the next sample for each of the last TAPS errors, the newest first."""
    power = sensitivity(np.linspace(0.0, sample_rate_hz / 2, POINTS + 1))
    correlation = np.fft.irfft(power)[: TAPS + 1]
    correlation[0] *= 1.0 + STEADINESS
    apart = np.abs(np.subtract.outer(np.arange(TAPS), np.arange(TAPS)))
    return tuple(np.linalg.solve(correlation[apart], correlation[1:]).tolist())


def most_steps(dither: str, sample_rate_hz: int) -> float:
    """How many steps rounding and dither can add to a sample: an error of up to 1.5, shaped by all of its taps."""
    if dither == "none":
        return 0.5
    if dither == "shaped":
        return 1.5 * (1.0 + sum(abs(tap) for tap in shaping_filter(sample_rate_hz)))
    return 1.5
