"""Two sides on one axis where an edit moved one of them: each column shows what lies at its time."""

from fractions import Fraction

import numpy as np

from nicelevel.core.measure.waveform import FULL_SCALE
from nicelevel.core.signals import Span, Timeline
from nicelevel.report.before_after import Side, both_series_bytes, columns_bytes

SECONDS = 8


def _side(levels, timeline=None):
    """A level for each second, from 0 to 1; the waveform in bins of a millisecond."""
    peaks = np.repeat(np.array(levels), 1000)
    bins = np.stack([-peaks, peaks, peaks], axis=1)[:, None, :] * FULL_SCALE
    energies = np.repeat(np.array(levels) ** 2, 100)

    moved = {"timeline": timeline} if timeline else {}
    return Side("side", energies, -20.0, float(len(levels)), lambda _: bins.astype(np.int16), **moved)


def _rows(before, after, count):
    return np.frombuffer(columns_bytes(before, after, 0.0, float(SECONDS), count), "<f4").reshape(5, count)


def test_what_was_taken_out_is_a_gap_and_what_is_left_stands_at_its_old_time():
    """Seconds 2 to 5 are taken out, with the loudest in them: it must show in no column of what is left."""
    levels = [0.1, 0.2, 0.3, 0.9, 0.5, 0.6, 0.7, 0.8]
    spans = Span(Fraction(0), Fraction(0), Fraction(2)), Span(Fraction(5), Fraction(2))
    before, after = _side(levels), _side(levels[:2] + levels[5:], Timeline(spans))
    # Columns of 8 ms: drawn of the finest bins.
    rows = _rows(before, after, 1000)
    at = np.array([0.5, 1.5, 5.5, 6.5, 7.5])
    columns = (at / SECONDS * 1000).astype(int)
    assert np.allclose(rows[3][columns], [0.1, 0.2, 0.6, 0.7, 0.8], atol=1e-3)
    assert np.isnan(rows[3][(np.array([2.5, 3.5, 4.5]) / SECONDS * 1000).astype(int)]).all()
    assert np.allclose(rows[1][(np.array([3.5]) / SECONDS * 1000).astype(int)], 0.9, atol=1e-3)
    assert np.nanmax(rows[3]) < 0.81


def test_a_series_has_the_same_gap():
    spans = Span(Fraction(0), Fraction(0), Fraction(2)), Span(Fraction(5), Fraction(2))
    before, after = _side([0.5] * SECONDS), _side([0.5] * 5, Timeline(spans))
    series = np.frombuffer(both_series_bytes(before, after), "<f4").reshape(2, -1)
    assert np.isnan(series[1][20:50]).all()
    assert np.isfinite(series[1][60:79]).any()
