"""What a piece of work takes: memory while it runs, and whether it is long. Both decide what runs beside what.

They are in the name of the queue that it waits in, so a worker fetches only what it can do now, and what is too large
for one machine at the moment is left for another.
"""

import os
from collections.abc import Collection
from dataclasses import dataclass
from pathlib import Path

from nicelevel.core.values import Shape

LONG_S = 30.0
"""What takes longer is never all that a worker does: one short work more is done beside."""

MEMORIES_MB = (256, 512, 1024, 2048, 4096)
"""A work waits among those that take at most so much; the largest have no limit."""

OF_PROCESS_BYTES = 320_000_000
"""Of a worker before it does anything: what is loaded, and the signals that its works share."""

LEAST_BYTES = 256_000_000

MEASURED_BYTES_PER_S = 200e6
S_PER_SAMPLE = 6e-8
"""Rendering or preparing, on one core: from 45 minutes of 5.1 at 96 kHz and an hour of 48 kHz stereo."""

RENDERED_BYTES, RENDERED_BYTES_PER_HZ = 40e6, 150.0
PREPARED_BYTES, PREPARED_BYTES_PER_HZ = 60e6, 400.0
"""How much memory it takes, and how much more with each channel's Hz: blocks have a length in seconds at most."""


@dataclass(frozen=True)
class Weight:
    memory_mb: int
    is_long: bool

    @property
    def queue(self) -> str:
        if self == LIGHTEST:
            return "default"
        return f"{'long' if self.is_long else 'short'}-{self.memory_mb}"


LIGHTEST = Weight(MEMORIES_MB[0], False)

_WEIGHTS = {each.queue: each for each in (Weight(mb, is_long) for is_long in (False, True) for mb in MEMORIES_MB)}

WORKING = tuple(_WEIGHTS)
"""The queues of all that is worked on."""


def weight_of_measuring(size_bytes: int) -> Weight:
    """Of a file of which nothing is known but its size."""
    return _weight(0.0, size_bytes / MEASURED_BYTES_PER_S)


def weight_of_preparing(shape: Shape) -> Weight:
    return _weight(PREPARED_BYTES + PREPARED_BYTES_PER_HZ * _hz(shape), _seconds(shape))


def weight_of_rendering(shape: Shape, is_prepared: bool) -> Weight:
    """is_prepared: whether there are steps, which a render makes where they are not made yet."""
    if is_prepared:
        return weight_of_preparing(shape)
    return _weight(RENDERED_BYTES + RENDERED_BYTES_PER_HZ * _hz(shape), _seconds(shape))


def _weight(memory_bytes: float, seconds: float) -> Weight:
    memory_mb = next((mb for mb in MEMORIES_MB if memory_bytes <= mb * 1e6), MEMORIES_MB[-1])
    return Weight(memory_mb, seconds > LONG_S)


def _hz(shape: Shape) -> float:
    return float(shape.channels * shape.rate_hz)


def _seconds(shape: Shape) -> float:
    return S_PER_SAMPLE * shape.channels * shape.frames


def queues_that_fit(running: Collection[str], at_once: int, memory_bytes: float) -> list[str]:
    """The queues that a worker may take from now.

    running: the queues that what it does came from; at_once: how many works it does side by side; memory_bytes: what
    these may take together. What takes more than that alone is done when nothing else is.
    """
    weights = [_WEIGHTS[each] for each in running]
    all_are_long = all(each.is_long for each in weights)
    if len(weights) > at_once or (len(weights) == at_once and not all_are_long):
        return []
    left_mb = memory_bytes / 1e6 - sum(each.memory_mb for each in weights)
    for_short_alone = len(weights) == at_once
    return [
        queue
        for queue, each in _WEIGHTS.items()
        if (not weights or each.memory_mb <= left_mb) and not (for_short_alone and each.is_long)
    ]


def memory_for_works(worker_bytes: int) -> float:
    """What the works of a worker may take together. worker_bytes: what it may take in all; 0 for half the machine."""
    return max(LEAST_BYTES, (worker_bytes or machine_bytes() // 2) - OF_PROCESS_BYTES)


def machine_bytes() -> int:
    """Memory of this machine, or of the share of it that we are given (cgroup v2)."""
    there = os.sysconf("SC_PAGE_SIZE") * os.sysconf("SC_PHYS_PAGES")
    try:
        return min(there, int(Path("/sys/fs/cgroup/memory.max").read_text()))
    except (OSError, ValueError):
        return there
