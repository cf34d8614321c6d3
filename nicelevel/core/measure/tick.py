"""A tick at the head: a first 10 ms that stands far over what follows. Common practice."""

from typing import Any

import numpy as np
from numpy.typing import NDArray

from ..units import ratio_from_db

TICK_DBFS, TICK_OVER_DB, TICK_HOPS = -40.0, 20.0, 10
"""It reaches so much, and stands so far over each of so many 10 ms after it."""


def begins_with_tick(peaks: NDArray[np.floating[Any]]) -> bool:
    """peaks: of each 10 ms, ±1.0 at full scale; a sound that goes on is none."""
    if len(peaks) <= TICK_HOPS or peaks[0] < ratio_from_db(TICK_DBFS):
        return False
    return bool(peaks[0] >= ratio_from_db(TICK_OVER_DB) * float(peaks[1 : TICK_HOPS + 1].max()))
