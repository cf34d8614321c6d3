"""Fold-downs: which share of each channel goes into each channel of a narrower layout (ITU-R BS.775-4).

Lo = L + 0.7071·C + 0.7071·Ls, Ro alike, LFE left out; one channel from those: 0.7071·(Lo + Ro). The coefficients can
be a spec's own. What hangs above goes where what stands under it goes, 3 dB down (common practice: the Recommendation
has no heights). Nothing is held below full scale here: floating point may pass it, and gain brings it back.
"""

import math
from typing import Literal, Protocol

import numpy as np
from numpy.typing import NDArray

from ..channels import Layout
from ..errors import UnsupportedError
from ..units import ratio_from_db

Matrix = NDArray[np.float64]


class Shares(Protocol):
    """By how much channels go into others, in dB; by which law two become one, None for what is usual."""

    @property
    def centre_db(self) -> float: ...
    @property
    def surround_db(self) -> float: ...
    @property
    def height_db(self) -> float | None: ...
    @property
    def lfe_db(self) -> float | Literal["off"]: ...
    @property
    def matrixed(self) -> bool | None: ...
    @property
    def mono_law(self) -> Literal["half", "power", "left", "right"] | None: ...


_NOMINAL_RATIOS = {-3.0: math.sqrt(0.5), -6.0: 0.5}
"""-3 dB and -6 dB stand for half the power and half the amplitude, here as in the Recommendation."""

_SIDES = {"L": 0, "R": 1}
_SURROUNDS = {"Ls": 0, "Rs": 1, "Lb": 0, "Rb": 1}
_BELOW = {"Tfl": ("L",), "Tfr": ("R",), "Tfc": ("C",), "Tbl": ("Lb", "Ls"), "Tbr": ("Rb", "Rs")}
"""What stands under each height, the first of these that a layout has; else where the last of them goes."""

_BEHIND = frozenset({*_SURROUNDS, "Tbl", "Tbr"})

USUAL_HEIGHT_DB = -3.0

_FOLDABLE = frozenset({*_SIDES, *_SURROUNDS, *_BELOW, "C", "LFE"})


def fold_matrix(source: Layout, target: Layout, coefficients: Shares) -> Matrix:
    """Output channels × input channels. Raises UnsupportedError where a channel has no place in the target."""
    unknown = [position for position in source.positions if position not in _FOLDABLE]
    if unknown:
        what = (
            "its channels have no stated places" if None in unknown else f"{', '.join(map(str, unknown))} has no rule"
        )
        raise UnsupportedError(f"{source.name} cannot become {target.name}: {what}.")
    if source.name == "mono" and target.name == "stereo":
        return np.ones((2, 1))
    if target.name == "mono":
        return _mono_row(source, coefficients)
    return np.array([_row(position, source, target, coefficients) for position in target.positions])


def matrixed_rows(source: Layout, coefficients: Shares) -> Matrix:
    """Two channels that a decoder for matrixed playback (Lt/Rt) finds the surrounds in.

    What is behind goes into both, against each other; it is to be turned by 90 degrees before, so that it does not
    cancel what is in front (common practice, from memory).
    """
    rows = fold_matrix(source, Layout("stereo", ("L", "R")), coefficients)
    behind = behind_channels(source)
    shares = rows[:, list(behind)].sum(axis=0)
    rows[0, list(behind)], rows[1, list(behind)] = -shares, shares
    return rows


def behind_channels(source: Layout) -> tuple[int, ...]:
    """The channels behind the listener, by number from 0."""
    return tuple(number for number, position in enumerate(source.positions) if position in _BEHIND)


def _row(position: str | None, source: Layout, target: Layout, coefficients: Shares) -> list[float]:
    return [_share(str(each), str(position), target, coefficients) for each in source.positions]


def _share(from_position: str, to_position: str, target: Layout, coefficients: Shares) -> float:
    """How much of a channel goes into another: all where it has its own place, else what the rule says."""
    if from_position in target.positions:
        return 1.0 if from_position == to_position else 0.0
    if from_position in _BELOW:
        below = next((each for each in _BELOW[from_position] if each in target.positions), _BELOW[from_position][-1])
        height_db = USUAL_HEIGHT_DB if coefficients.height_db is None else coefficients.height_db
        return nominal_ratio(height_db) * _share(below, to_position, target, coefficients)
    side = _SIDES.get(to_position)
    if from_position == "C":
        return nominal_ratio(coefficients.centre_db) if side is not None else 0.0
    if from_position == "LFE":
        off = coefficients.lfe_db == "off" or side is None
        return 0.0 if off else nominal_ratio(float(coefficients.lfe_db))
    if from_position in ("Lb", "Rb") and "Ls" in target.positions:
        mine = to_position in ("Ls", "Rs") and _SURROUNDS[to_position] == _SURROUNDS[from_position]
        return nominal_ratio(coefficients.surround_db) if mine else 0.0
    if from_position in _SURROUNDS:
        return nominal_ratio(coefficients.surround_db) if _SURROUNDS[from_position] == side else 0.0
    return 0.0


def _mono_row(source: Layout, coefficients: Shares) -> Matrix:
    """One channel: from two by the spec's law, from more by folding them to two before."""
    stereo = Layout("stereo", ("L", "R"))
    two = np.eye(2) if source.name == "stereo" else fold_matrix(source, stereo, coefficients)
    left, right = mono_shares(source, coefficients)
    row: Matrix = left * two[:1] + right * two[1:]
    return row


def mono_shares(source: Layout, coefficients: Shares) -> tuple[float, float]:
    """Shares of left and right in one channel. Where the spec leaves it open: half from stereo, BS.775 from more."""
    law = coefficients.mono_law or ("half" if source.name == "stereo" else "power")
    power = math.sqrt(0.5)
    return {"half": (0.5, 0.5), "power": (power, power), "left": (1.0, 0.0), "right": (0.0, 1.0)}[law]


def nominal_ratio(level_db: float) -> float:
    """The ratio that a coefficient in dB stands for."""
    return _NOMINAL_RATIOS.get(level_db, ratio_from_db(level_db))
