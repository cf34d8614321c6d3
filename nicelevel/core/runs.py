"""Runs of what is true in an array of flags."""

import numpy as np
from numpy.typing import NDArray


def runs(flags: NDArray[np.bool_]) -> list[tuple[int, int]]:
    """First and the one after the last of each, in order."""
    edges = np.flatnonzero(np.diff(np.concatenate(([False], flags, [False])).astype(np.int8)))
    return list(zip(edges[::2].tolist(), edges[1::2].tolist(), strict=True))
