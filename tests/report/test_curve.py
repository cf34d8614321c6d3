"""The line of a level over time, in the close-up of the board."""

import re

import numpy as np

from nicelevel.report.curve import BOTTOM, SHOWN_LU, _Plot

PLOT = _Plot(width=600, height=280, top=0, duration_s=10.0)
FOOT_Y = f"{PLOT.y(-SHOWN_LU):.1f}"


def _pens(levels):
    """Each step of the path: whether it draws, and where it ends from the top."""
    return [(pen, y) for pen, _, y in re.findall(r"([ML])([\d.]+) ([\d.]+)", PLOT.curve(np.array(levels)))]


def test_what_lies_under_the_field_is_not_drawn_along_its_foot():
    """It would read as a level: the line leaves the field, and comes back from its foot."""
    assert float(FOOT_Y) == PLOT.height - BOTTOM
    pens = _pens([-10.0, -50.0, -60.0, -np.inf, -10.0])
    assert [pen for pen, _ in pens] == ["M", "L", "M", "M", "L"]
    assert [y == FOOT_Y for _, y in pens] == [False, True, True, True, False]


def test_a_line_is_broken_where_there_is_no_level():
    assert [pen for pen, _ in _pens([np.nan, -10.0, -11.0, np.nan, -12.0])] == ["M", "L", "M"]
