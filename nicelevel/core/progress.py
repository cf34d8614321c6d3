"""Progress of a longer work: the share that is done, told to who asked."""

from collections.abc import Callable

Progress = Callable[[float], None]
"""Called with the share done, 0 to 1; it may raise StoppedError to end the work."""


def share_of(progress: Progress | None, start: float, size: float) -> Progress | None:
    """The progress of one part of a longer work."""
    if progress is None:
        return None
    return lambda ratio: progress(start + size * ratio)
