"""How a process of ours holds its memory."""

import ctypes
from contextlib import suppress

_M_ARENA_MAX = -8
ARENAS = 2


def keep_few_arenas() -> None:
    """Let all threads share a few pools of memory, before any thread is begun.

    GNU's C library gives each thread a pool of its own, up to eight for each processor, and what is free in one is of
    no use to another: many threads that come and go hold much more than is in use. Elsewhere nothing is done.
    """
    with suppress(OSError, AttributeError):
        ctypes.CDLL(None).mallopt(_M_ARENA_MAX, ARENAS)
