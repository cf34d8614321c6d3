"""How numba is used everywhere: compiled once, kept on disk, without the interpreter's lock.

Kernels only compute; the public function that calls one has checked and allocated everything.
Strict floating point (no reordering), so that a kernel equals its plain twin in the tests.
"""

from collections.abc import Callable
from typing import Any, cast

import numba
import numpy as np
from numpy.typing import NDArray

Function = Callable[..., Any]
Floats = NDArray[np.floating[Any]]
Integers = NDArray[np.signedinteger[Any]]


def kernel(function: Function) -> Function:
    """Compile a numeric function to machine code at its first call and cache it beside its module."""
    return cast(Function, numba.njit(cache=True, nogil=True)(function))


def vectorised(function: Function) -> Function:
    """Like `kernel`, for sums and extremes whose order does not matter: the processor takes several at once.

    Only for samples that are known to be finite. A sum differs from the plain one in its last digits alone.
    """
    return cast(Function, numba.njit(cache=True, nogil=True, fastmath=True)(function))


def inlined(function: Function) -> Function:
    """Like `kernel`, for a small function that only other kernels call."""
    return cast(Function, numba.njit(cache=True, nogil=True, inline="always")(function))
