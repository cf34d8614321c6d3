"""What is lost where channels are summed: the energy of the sum against the sum of the energies."""

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ..measure.k_weighting import coefficients
from .in_common import InCommon

Floats = NDArray[np.float64]
Rows = Sequence[Sequence[float]]
"""A row for each channel that results, with the share of each that comes in."""

SHOWN_FROM_DB = -3.0
TINY = 1e-30


@dataclass(frozen=True)
class Dip:
    """Where most is lost, and the two channels that work most against each other there, by number from 0."""

    hz: float
    db: float
    pair: tuple[int, int] | None


def loss_db(found: InCommon, rows: Rows) -> Floats:
    """Of each band: over 0 where channels help each other, under it where they cancel; 0 where nothing sounds."""
    summed, apart = _energies(found.by_band, rows)
    audible = apart > TINY
    losses = np.zeros(len(apart))
    losses[audible] = 10.0 * np.log10(np.maximum(summed[audible], 1e-12 * apart[audible]) / apart[audible])
    return losses


def _energies(products: Floats, rows: Rows) -> tuple[Floats, Floats]:
    """Of the sums, and of their shares if they had nothing in common."""
    shares = np.array(rows, np.float64)
    summed = np.einsum("oi,bij,oj->b", shares, products, shares)
    apart = np.einsum("oi,bii->b", shares**2, products)
    return summed, apart


def deepest(found: InCommon, rows: Rows) -> Dip | None:
    """The band that loses most of what matters: of those within 40 dB of the loudest. None where hardly any does."""
    losses = loss_db(found, rows)
    _, apart = _energies(found.by_band, rows)
    matters = apart > 1e-4 * apart.max(initial=0.0)
    if not matters.any() or losses[matters].min() > SHOWN_FROM_DB:
        return None
    band = int(np.argmin(np.where(matters, losses, 0.0)))
    return Dip(float(found.bands_hz[band]), float(losses[band]), _against(found.by_band[band], rows))


def _against(products: Floats, rows: Rows) -> tuple[int, int] | None:
    shares = np.array(rows, np.float64)
    works = np.einsum("oi,ij,oj->ij", shares, products, shares)
    works[np.tril_indices(len(works))] = 0.0
    one, other = np.unravel_index(int(np.argmin(works)), works.shape)
    return (int(one), int(other)) if works[one, other] < 0.0 else None


def level_change_lu(found: InCommon, rows: Rows, weights: Sequence[float]) -> float | None:
    """About how much louder it becomes, K-weighted but not gated; None where nothing sounds before or after.

    weights: of the channels that result, as BS.1770 has them.
    """
    filtered = _k_weighting(found)
    shares = np.array(rows, np.float64)
    after = float(np.einsum("b,o,oi,bij,oj->", filtered, np.array(weights), shares, found.by_band, shares))
    before = float(np.einsum("b,i,bii->", filtered, np.array(found.shape.layout.weights), found.by_band))
    return 10.0 * math.log10(after / before) if after > TINY and before > TINY else None


def _k_weighting(found: InCommon) -> Floats:
    """What K-weighting makes of the energy of each band."""
    z = np.exp(-2j * np.pi * found.bands_hz / found.shape.rate_hz)
    response = np.ones(len(z), complex)
    for b0, b1, b2, a1, a2 in coefficients(found.shape.rate_hz):
        response *= (b0 + b1 * z + b2 * z * z) / (1.0 + a1 * z + a2 * z * z)
    energies: Floats = np.abs(response) ** 2
    return energies
