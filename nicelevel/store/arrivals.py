"""What came into the folders of lines: from whole to published or held; and what is told of that."""

from collections.abc import Sequence
from datetime import UTC, datetime
from typing import Any

from .changes import announce_line
from .database import database
from .models import Arrival, Line, Telling
from .tries import begin_try, save_in_try

UNDER_WAY = ("whole", "working")
ENDED = ("published", "noted", "held", "same", "gone")
COUNTED = ("published", "noted", "held")
"""States of what came; what was the same, or has gone, came for nothing."""


def add_arrival(line: Line, name: str, mark: str, arrived_at: datetime, **columns: Any) -> Arrival | None:
    """One more; None where it is known already: another worker was quicker."""
    query = Arrival.insert(line=line.id, name=name, mark=mark, arrived_at=arrived_at, **columns)
    found = list(query.on_conflict_ignore().returning(Arrival))
    if not found:
        return None
    announce_line(line.id, found[0].id)
    arrival: Arrival = found[0]
    return arrival


def known_marks(line_id: int, names: Sequence[str]) -> set[tuple[str, str]]:
    """Of files with these names those that are known, each with its mark."""
    query = Arrival.select(Arrival.name, Arrival.mark).where(Arrival.line == line_id, Arrival.name.in_(list(names)))
    return {(each.name, each.mark) for each in query}


def find_arrival(arrival_id: int) -> Arrival | None:
    found: Arrival | None = Arrival.select(Arrival, Line).join(Line).where(Arrival.id == arrival_id).first()
    return found


def arrivals_between(first: datetime, last: datetime, line_id: int | None = None) -> list[Arrival]:
    """Those of a span of time, by line and time; what is expected at a time counts there."""
    query = (
        Arrival.select()
        .where(Arrival.arrived_at >= first, Arrival.arrived_at < last)
        .order_by(Arrival.line, Arrival.arrived_at, Arrival.id)
    )
    return list(query if line_id is None else query.where(Arrival.line == line_id))


def latest_counted(line_id: int, before: datetime, count: int) -> list[Arrival]:
    """The last that came before a time, in the order of time."""
    query = (
        Arrival.select()
        .where(Arrival.line == line_id, Arrival.arrived_at < before, Arrival.state.in_(COUNTED))
        .order_by(Arrival.arrived_at.desc())
        .limit(count)
    )
    return list(reversed(list(query)))


def taken_times(line_id: int, since: datetime) -> dict[float, Arrival]:
    """The expected times that something came for, or that were missed, in seconds since 1970."""
    query = Arrival.select().where(Arrival.line == line_id, Arrival.expected_at >= since)
    return {each.expected_at.timestamp(): each for each in query}


def forget_missing(arrival_id: int) -> None:
    """What did not come has come after all."""
    Arrival.delete().where(Arrival.id == arrival_id, Arrival.state == "missing").execute()


def begin_arrival(arrival: Arrival) -> bool:
    """Begin a try; False where nobody wants it any more."""
    if not begin_try(arrival, UNDER_WAY, state="working"):
        return False
    announce_line(arrival.line_id, arrival.id)
    return True


def save_arrival(arrival: Arrival, state: str, **columns: Any) -> bool:
    """What a try says; False where another has begun meanwhile."""
    with database.atomic():
        ended: dict[str, Any] = (
            {"finished_at": datetime.now(UTC)} if state in ENDED and "finished_at" not in columns else {}
        )
        saved = save_in_try(arrival, UNDER_WAY, state=state, **ended, **columns)
        announce_line(arrival.line_id, arrival.id)
    return saved


def end_arrival(arrival: Arrival, code: str, sentence: str) -> bool:
    """Hold what cannot be worked on, from outside of any try."""
    with database.atomic():
        columns = {"state": "held", "error_code": code, "error_message": sentence, "finished_at": datetime.now(UTC)}
        query = Arrival.update(**columns).where(Arrival.id == arrival.id, Arrival.state.in_(UNDER_WAY))
        changed = bool(query.execute())
        announce_line(arrival.line_id, arrival.id)
    return changed


def again(arrival: Arrival, is_forced: bool, told: list[Any]) -> bool:
    """Have an arrival that ended done once more; False where it is under way."""
    with database.atomic():
        columns = {"state": "whole", "is_forced": is_forced, "error_code": None, "error_message": None, "told": told}
        query = Arrival.update(**columns).where(Arrival.id == arrival.id, Arrival.state.in_(("held", "published")))
        changed = bool(query.execute())
        announce_line(arrival.line_id, arrival.id)
    return changed


def on_air(line_id: int) -> dict[str, Arrival]:
    """By each published name the arrival that stands under it now."""
    query = (
        Arrival.select()
        .where(Arrival.line == line_id, Arrival.state == "published")
        .order_by(Arrival.under, Arrival.finished_at.desc())
        .distinct(Arrival.under)
    )
    return {str(each.under): each for each in query}


def published_under(line_id: int, under: str) -> list[Arrival]:
    """What was published under a name, the latest first."""
    query = Arrival.select().where(Arrival.line == line_id, Arrival.under == under, Arrival.state == "published")
    return list(query.order_by(Arrival.finished_at.desc()))


def say_published(arrival: Arrival, told: list[Any], at: datetime) -> None:
    """It is what is on air from now on."""
    Arrival.update(told=told, finished_at=at).where(Arrival.id == arrival.id).execute()
    announce_line(arrival.line_id, arrival.id)


def held_for(codes: Sequence[str]) -> list[Arrival]:
    """What is held for one of these reasons, the earliest first."""
    waiting = Arrival.state == "held", Arrival.error_code.in_(list(codes)), Line.trashed_at.is_null()
    return list(Arrival.select(Arrival, Line).join(Line).where(*waiting).order_by(Arrival.arrived_at))


def kept_files_before(moment: datetime) -> list[Arrival]:
    """Those of which files are kept and that ended before a time."""
    return list(Arrival.select().where(Arrival.files != {}, Arrival.finished_at < moment))


def ids_of_arrivals() -> set[int]:
    return {each.id for each in Arrival.select(Arrival.id)}


def keep_files(arrival: Arrival, files: dict[str, str]) -> None:
    """Which files are kept of it, by their roles."""
    Arrival.update(files=files).where(Arrival.id == arrival.id).execute()


def forget_files(arrival: Arrival) -> None:
    Arrival.update(files={}).where(Arrival.id == arrival.id).execute()


def add_telling(line_id: int, arrival_id: int | None, address: str, told: dict[str, Any]) -> Telling:
    telling: Telling = Telling.create(line=line_id, arrival=arrival_id, address=address, told=told)
    return telling


def find_telling(telling_id: int) -> Telling | None:
    found: Telling | None = Telling.get_or_none(Telling.id == telling_id)
    return found


def save_telling(telling: Telling, state: str, said: str) -> None:
    Telling.update(state=state, said=said, tries=Telling.tries + 1).where(Telling.id == telling.id).execute()
    announce_line(telling.line_id, telling.arrival_id or 0)


def tellings_of(arrival_id: int) -> list[Telling]:
    """The first first."""
    return list(Telling.select().where(Telling.arrival == arrival_id).order_by(Telling.id))
