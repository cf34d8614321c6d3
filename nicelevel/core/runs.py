"""Runs of what is true in an array of flags."""

import numpy as np
from numpy.typing import NDArray


def runs(flags: NDArray[np.bool_]) -> list[tuple[int, int]]:
    """First and the one after the last of each, in order."""
    edges = (np.flatnonzero(flags[1:] != flags[:-1]) + 1).tolist()
    if len(flags) and flags[0]:
        edges.insert(0, 0)
    if len(flags) and flags[-1]:
        edges.append(len(flags))
    return list(zip(edges[::2], edges[1::2], strict=True))
