"""What has changed about what a supplier sends: the level of what comes, before and since some day."""

from collections.abc import Sequence
from dataclasses import dataclass
from statistics import median

LEAST_BEFORE, LEAST_SINCE = 8, 4
NAMED_FROM_LU = 2.0
"""Common practice: what is left to a listener's hand."""

MOST_STRAYS = 0.25
"""So many of one side may lie nearer to the other, or it is no change but restlessness."""


@dataclass(frozen=True)
class Drift:
    """since_s: of the first that came so, in seconds since 1970; by_lu: louder where positive."""

    since_s: float
    by_lu: float


def drift_of(came: Sequence[tuple[float, float]]) -> Drift | None:
    """came: when and how loud in LUFS, in the order of time. None where nothing changed that a listener would hear.

    The place where the two halves differ most, each by its median, so that one odd arrival is no change.
    """
    levels = [level for _, level in came]
    best, place = 0.0, 0
    for at in range(LEAST_BEFORE, len(levels) - LEAST_SINCE + 1):
        by = median(levels[at:]) - median(levels[:at])
        if abs(by) > abs(best) + 1e-9:
            best, place = by, at
    if abs(best) < NAMED_FROM_LU:
        return None
    place = _where_it_begins(levels, place, best)
    middle = (median(levels[:place]) + median(levels[place:])) / 2
    is_since = [(level > middle) == (best > 0) for level in levels]
    strays = max(sum(is_since[:place]) / place, 1.0 - sum(is_since[place:]) / (len(levels) - place))
    return Drift(came[place][0], best) if strays <= MOST_STRAYS else None


def _where_it_begins(levels: Sequence[float], place: int, by: float) -> int:
    """The first of those in a row that lie nearer to what comes since than to what came before."""
    before, since = median(levels[:place]), median(levels[place:])
    middle = (before + since) / 2

    def is_since(level: float) -> bool:
        return (level > middle) == (by > 0)

    while place > LEAST_BEFORE and is_since(levels[place - 1]):
        place -= 1
    while place < len(levels) - LEAST_SINCE and not is_since(levels[place]):
        place += 1
    return place
