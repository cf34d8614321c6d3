"""How long work will still take, from how long such work took before."""

import heapq
import statistics
from collections import defaultdict
from collections.abc import Hashable, Iterable, Sequence
from dataclasses import dataclass

SURE_AT_RATIO = 0.15
"""From here on, work under way is told by its own speed."""

LATEST = 12
"""So many of a kind tell its pace: the machine may be another today."""


@dataclass(frozen=True)
class Took:
    """Work that was done: its kind, how long its audio is, how long it took."""

    kind: Hashable
    audio_s: float
    seconds: float


@dataclass(frozen=True)
class ToDo:
    """Work that waits (progress 0, running 0) or is under way for so many seconds."""

    kind: Hashable
    audio_s: float
    progress_ratio: float = 0.0
    running_s: float = 0.0


def paces(done: Iterable[Took]) -> dict[Hashable, float]:
    """Seconds that a second of audio takes, by kind, the median of the latest; under None that of all kinds.

    done: the latest first. Empty where nothing was done yet.
    """
    kinds: dict[Hashable, list[float]] = defaultdict(list)
    for each in done:
        if each.audio_s > 0.0:
            pace = each.seconds / each.audio_s
            kinds[each.kind].append(pace)
            kinds[None].append(pace)
    return {kind: statistics.median(found[:LATEST]) for kind, found in kinds.items()}


def time_left_s(to_do: Sequence[ToDo], known: dict[Hashable, float], at_once: int) -> list[float | None]:
    """When each will be done, in seconds from now, where so many are worked on at once in the order given.

    None for each whose end cannot be told: nothing like it was done, nor is it or one before it far enough.
    """
    ends = [0.0] * max(1, at_once)
    found: list[float | None] = []
    is_known = True
    for each in to_do:
        needs_s = _needs_s(each, known)
        is_known = is_known and needs_s is not None
        if not is_known or needs_s is None:
            found.append(None)
            continue
        end_s = heapq.heappop(ends) + needs_s
        heapq.heappush(ends, end_s)
        found.append(end_s)
    return found


def all_left_s(to_do: Sequence[ToDo], known: dict[Hashable, float], at_once: int) -> float | None:
    """When all of it is done, as if it could be shared out evenly; None where that cannot be told of some."""
    needed_s = [_needs_s(each, known) for each in to_do]
    return None if None in needed_s else sum(each for each in needed_s if each is not None) / max(1, at_once)


def _needs_s(each: ToDo, known: dict[Hashable, float]) -> float | None:
    if each.progress_ratio >= SURE_AT_RATIO:
        return each.running_s / each.progress_ratio * (1.0 - each.progress_ratio)
    pace = known.get(each.kind, known.get(None))
    return None if pace is None else max(0.0, pace * each.audio_s - each.running_s)
