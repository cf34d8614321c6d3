"""What is under way, in the order in which it will be done, and how long it will take."""

from dataclasses import dataclass
from datetime import UTC, datetime

from nicelevel.core.pace import ToDo, Took, all_left_s, paces, time_left_s
from nicelevel.store.readings import known_shape
from nicelevel.store.runs import Unfinished, done_lately, unfinished, waiting_kinds


@dataclass(frozen=True)
class One:
    """A deliverable that is being rendered or waits, and in how many seconds it is done (None: cannot be told)."""

    deliverable_id: int
    state: str
    end_s: float | None


@dataclass(frozen=True)
class UnderWay:
    """What is being rendered and the first of what waits; how many there are in all, and when the last is done."""

    first: tuple[One, ...]
    rendering: int
    waiting: int
    left_s: float | None

    @property
    def count(self) -> int:
        return self.rendering + self.waiting


def under_way(at_once: int, most: int) -> UnderWay:
    """What is being rendered, then what waits, in the order in which it will be done, so many at once.

    most: of how many that wait it is told when each is done.
    """
    kinds = waiting_kinds()
    found = unfinished(most)
    if not found and not kinds:
        return UnderWay((), 0, 0, None)
    took = [
        Took((each.spec_id, each.output), each.audio_s, (each.finished_at - each.started_at).total_seconds())
        for each in done_lately()
        if each.audio_s
    ]
    known, to_do = paces(took), [_to_do(each) for each in found]
    ends = time_left_s(to_do, known, at_once)
    first = tuple(One(each.id, each.state, end_s) for each, end_s in zip(found, ends, strict=True))
    rendering = sum(each.state == "rendering" for each in found)
    waiting = sum(each.waiting for each in kinds)
    if waiting <= len(found) - rendering:
        left_s = None if None in ends else max(end_s for end_s in ends if end_s is not None)
    else:
        rest = [ToDo((each.spec_id, each.output), each.audio_s) for each in kinds]
        left_s = all_left_s([*to_do[:rendering], *rest], known, at_once)
    return UnderWay(first, rendering, max(waiting, len(found) - rendering), left_s)


def _to_do(each: Unfinished) -> ToDo:
    kind, shape = (each.spec_id, each.output), known_shape(each.digest)
    audio_s = shape.duration_s if shape else 0.0
    if each.started_at is None:
        return ToDo(kind, audio_s)
    return ToDo(kind, audio_s, each.progress_ratio, (datetime.now(UTC) - each.started_at).total_seconds())
