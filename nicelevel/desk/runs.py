"""What is under way, in the order in which it will be done, and how long it will take."""

from dataclasses import dataclass
from datetime import UTC, datetime

from nicelevel.core.pace import ToDo, Took, paces, time_left_s
from nicelevel.store.audio import AudioFolder
from nicelevel.store.readings import load_figures
from nicelevel.store.runs import Unfinished, done_lately, priorities, unfinished


@dataclass(frozen=True)
class UnderWay:
    """A deliverable that is being rendered or waits, and in how many seconds it is done (None: cannot be told)."""

    deliverable_id: int
    state: str
    end_s: float | None


def under_way(audio: AudioFolder, at_once: int) -> list[UnderWay]:
    """What is being rendered, then what waits, in the order in which it will be done, so many at once."""
    found = unfinished()
    if not found:
        return []
    preferred = priorities()
    found.sort(
        key=lambda each: (each.state != "rendering", -preferred.get(each.id, 0), each.queued_at, each.id),
    )
    took = [
        Took((each.spec_id, each.output), each.audio_s, (each.finished_at - each.started_at).total_seconds())
        for each in done_lately()
        if each.audio_s
    ]
    ends = time_left_s([_to_do(each, audio) for each in found], paces(took), at_once)
    return [UnderWay(each.id, each.state, end_s) for each, end_s in zip(found, ends, strict=True)]


def _to_do(each: Unfinished, audio: AudioFolder) -> ToDo:
    kind, audio_s = (each.spec_id, each.output), load_figures(each.digest, audio).source.duration_s
    if each.started_at is None:
        return ToDo(kind, audio_s)
    return ToDo(kind, audio_s, each.progress_ratio, (datetime.now(UTC) - each.started_at).total_seconds())
