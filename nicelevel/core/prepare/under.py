"""What lies under a frequency, told from the low band that a meter keeps: for drawing, without the audio."""

import numpy as np
from numpy.typing import NDArray

from ..measure.envelope import ENVELOPE_HOPS_PER_SECOND
from ..measure.low_band import FULL_SCALE
from ..stages.high_pass import butterworth, filter_columns

HIGHEST_HZ = 150.0
"""The low band is smoothed: above this it has lost more than a decibel or two."""

HOPS_PER_LEVEL = ENVELOPE_HOPS_PER_SECOND // 100


def level_under(low_band: NDArray[np.int16], hz: float, order: int) -> NDArray[np.float64] | None:
    """RMS every 10 ms of what a high-pass of this order is there for, of the channel that has most of it.

    That is what a low-pass with the same poles lets through: what the high-pass changes above its corner, by turning
    phases, is not counted. low_band: hops × channels, as `LowBandMeter` gives it. None where it does not reach so
    high, or is shorter than that.
    """
    if hz > HIGHEST_HZ or len(low_band) < HOPS_PER_LEVEL:
        return None
    columns = np.array(low_band.T, np.float64, order="C") / FULL_SCALE
    sections = _low_pass(butterworth(order, hz, ENVELOPE_HOPS_PER_SECOND))
    states = np.zeros((len(columns), len(sections), 2))
    for number in range(0, len(columns), 2):
        filter_columns(columns[number : number + 2], sections, states[number : number + 2])
    whole = columns.shape[1] // HOPS_PER_LEVEL * HOPS_PER_LEVEL
    squares = (columns[:, :whole] ** 2).reshape(len(columns), -1, HOPS_PER_LEVEL).mean(axis=2)
    levels: NDArray[np.float64] = np.sqrt(squares.max(axis=0))
    return levels


def _low_pass(sections: NDArray[np.float64]) -> NDArray[np.float64]:
    """The low-pass with the same poles; a constant passes it as it is."""
    rows = []
    for *_, a1, a2 in sections.tolist():
        b0 = (1.0 + a1 + a2) / 4.0 if a2 else (1.0 + a1) / 2.0
        rows.append([b0, 2.0 * b0, b0, a1, a2] if a2 else [b0, b0, 0.0, a1, a2])
    return np.array(rows)
