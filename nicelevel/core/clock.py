"""The clock that lines go by: the real one, or for a rehearsal one that runs faster from another time on."""

import time
from dataclasses import dataclass
from datetime import UTC, datetime

from .errors import SpecError


@dataclass(frozen=True)
class Clock:
    """start_s: what it shows when the real clock shows `since_s`, both in seconds since 1970; speed: how many times
    faster it runs.
    """

    start_s: float = 0.0
    since_s: float = 0.0
    speed: float = 1.0

    def now_s(self) -> float:
        """Seconds since 1970."""
        return self.start_s + (time.time() - self.since_s) * self.speed

    def now(self) -> datetime:
        return datetime.fromtimestamp(self.now_s(), UTC)


def clock_of(text: str) -> Clock:
    """A clock as a setting has it: nothing for the real one, else start, speed and since when, with spaces between.

    Raises SpecError where it is neither.
    """
    if not text:
        return Clock()
    try:
        start_s, speed, since_s = map(float, text.split())
    except ValueError as error:
        raise SpecError(f"{text!r} is no clock: three figures, its start, its speed, and since when.") from error
    if not speed > 0.0:
        raise SpecError("A clock does not stand still.")
    return Clock(start_s, since_s, speed)
