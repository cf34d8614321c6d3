"""Numeric truths with their sources: name, signal, what the standard expects, what we read exactly.

Two rows hold each: the standard's own value and tolerance, and ours, held far tighter (`OWN_…`), so that drift cannot
hide inside the standard's tolerance.
"""

import numpy as np

from .signals import Signal, both, silence, sine, tone_steps

EBU_3341 = "EBU Tech 3341 (2023), table 1"
EBU_3342 = "EBU Tech 3342 (2023), table 1"

OWN_LOUDNESS_LU = 0.001
OWN_RANGE_LU = 0.01


def five_channels() -> Signal:
    """L, R, C, Ls, Rs of 3341 case 6."""
    return np.concatenate([sine(1000, level, 20) for level in (-28, -28, -24, -30, -30)], axis=1)


INTEGRATED = {
    "3341-1": (lambda: tone_steps([(-23, 20)]), -23.0, -22.9933),
    "3341-2": (lambda: tone_steps([(-33, 20)]), -33.0, -32.9933),
    "3341-3": (lambda: tone_steps([(-36, 10), (-23, 60), (-36, 10)]), -23.0, -23.0139),
    "3341-4": (lambda: tone_steps([(-72, 10), (-36, 10), (-23, 60), (-36, 10), (-72, 10)]), -23.0, -23.0139),
    "3341-5": (lambda: tone_steps([(-26, 20), (-20, 20.1), (-26, 20)]), -23.0, -22.9787),
}
INTEGRATED_TOLERANCE_LU = 0.1

SHORT_TERM_3341_9 = lambda: tone_steps([(-20, 1.34), (-30, 1.66)] * 5)  # noqa: E731
MOMENTARY_3341_12 = lambda: tone_steps([(-20, 0.18), (-30, 0.22)] * 25)  # noqa: E731


def short_term_3341_10(number: int) -> Signal:
    return np.concatenate((silence(0.15 * number), tone_steps([(-23, 3)]), silence(1)))


def momentary_3341_13(number: int) -> Signal:
    return np.concatenate((silence(0.02 * number), tone_steps([(-23, 0.4)]), silence(1)))


def _faded(hz: float, phase_degrees: float, amplitude: float) -> Signal:
    """The standard's peak tones fade in and out, so that their start makes no peak of its own."""
    tone = both(sine(hz, 0.0, 1.0, phase_degrees=phase_degrees)) * amplitude
    ramp = np.minimum(1.0, np.arange(len(tone)) / 2400)
    return tone * (ramp * ramp[::-1])[:, None]


TRUE_PEAKS = {
    "3341-15": (lambda: _faded(12_000, 0.0, 0.5), -6.0, -6.0206),
    "3341-16": (lambda: _faded(12_000, 45.0, 0.5), -6.0, -6.0206),
    "3341-17": (lambda: _faded(8_000, 60.0, 0.5), -6.0, -6.0206),
    "3341-18": (lambda: _faded(6_000, 67.5, 0.5), -6.0, -6.0206),
    "3341-19": (lambda: _faded(12_000, 45.0, 1.41), 3.0, 2.9844),
}
TRUE_PEAK_OVER_DB, TRUE_PEAK_UNDER_DB = 0.2, 0.4
OWN_TRUE_PEAK_DB = 0.01

RANGES = {
    "3342-1": (lambda: tone_steps([(-20, 20), (-30, 20)]), 10.0),
    "3342-2": (lambda: tone_steps([(-20, 20), (-15, 20)]), 5.0),
    "3342-3": (lambda: tone_steps([(-40, 20), (-20, 20)]), 20.0),
    "3342-4": (lambda: tone_steps([(-50, 20), (-35, 20), (-20, 20), (-35, 20), (-50, 20)]), 15.0),
}
RANGE_TOLERANCE_LU = 1.0

# Decibels as ratios, to five digits (arithmetic).
RATIOS = {-0.2: 0.97724, -0.8: 0.91201, -1: 0.89125, -1.5: 0.84140, -2: 0.79433, -3: 0.70795, -6.5: 0.47315}
