"""How a process of ours holds its memory and its threads."""

import ctypes
import os
from contextlib import suppress

_M_ARENA_MAX, _M_MMAP_THRESHOLD, _M_TRIM_THRESHOLD = -8, -3, -1

ARENAS = 2
LARGE_BYTES, MOST_SPARE_BYTES = 8 << 20, 16 << 20


def arrange_process() -> None:
    """Set what a process of ours lives by, before it loads numpy or begins a thread."""
    _arrange_memory()
    # Files side by side keep every processor busy: a library's own threads would only wait for each other, awake.
    os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")


def _arrange_memory() -> None:
    """Set how GNU's C library pools memory. Elsewhere nothing is done.

    It gives each thread a pool of its own, up to eight for each processor, and what is free in one is of no use to
    another: many threads that come and go would hold much more than is in use. So all share a few. And what is as
    large as a block of samples comes from a pool as well: memory from the system has to be brought in page by page.
    """
    with suppress(OSError, AttributeError):
        library = ctypes.CDLL(None)
        library.mallopt(_M_ARENA_MAX, ARENAS)
        library.mallopt(_M_MMAP_THRESHOLD, LARGE_BYTES)
        library.mallopt(_M_TRIM_THRESHOLD, MOST_SPARE_BYTES)
