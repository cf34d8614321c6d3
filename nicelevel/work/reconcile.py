"""Rows that say that something is under way while no job of the queue is: what was begun comes to an end."""

from typing import Any

from nicelevel.core.steps import recipe_from_json
from nicelevel.store.arrivals import UNDER_WAY as COMING
from nicelevel.store.database import database
from nicelevel.store.deliverables import UNFINISHED, with_names
from nicelevel.store.models import Arrival, Deliverable, Preparing, Sending, Source, Telling
from nicelevel.store.prepared import end_preparation
from nicelevel.store.sendings import UNDER_WAY
from nicelevel.store.sources import UNMEASURED, end_source

from .arriving import enqueue_arrival
from .enqueue import enqueue_measuring, enqueue_rendering, enqueue_sending_of
from .tasks import defer_preparation
from .telling import defer_telling

SUM_LOST = "Its members are not known any more: make the sum once more."


def requeue_forgotten() -> int:
    """Queue again what waits or is under way and has no job; how many those were."""
    return _sources() + _deliverables() + _sendings() + _preparations() + _arrivals() + _tellings()


def _sources() -> int:
    forgotten = list(Source.select().where(Source.state.in_(UNMEASURED), Source.id.not_in(_named("source_id"))))
    for source in forgotten:
        with database.atomic():
            if source.kind == "sum" and not source.digest:
                end_source(source, "lost", SUM_LOST)
            else:
                enqueue_measuring(source)
    return len(forgotten)


def _deliverables() -> int:
    waiting = with_names().where(Deliverable.state.in_(UNFINISHED), Deliverable.id.not_in(_named("deliverable_id")))
    forgotten = list(waiting)
    for deliverable in forgotten:
        with database.atomic():
            enqueue_rendering(deliverable)
    return len(forgotten)


def _sendings() -> int:
    forgotten = list(Sending.select().where(Sending.state.in_(UNDER_WAY), Sending.id.not_in(_named("sending_id"))))
    for sending in forgotten:
        with database.atomic():
            enqueue_sending_of(sending)
    return len(forgotten)


def _arrivals() -> int:
    waiting = Arrival.select().where(Arrival.state.in_(COMING), Arrival.id.not_in(_named("arrival_id")))
    forgotten = list(waiting.order_by(Arrival.id))
    for arrival in forgotten:
        with database.atomic():
            enqueue_arrival(arrival)
    return len(forgotten)


def _tellings() -> int:
    waiting = Telling.select().where(Telling.state == "waiting", Telling.id.not_in(_named("telling_id")))
    forgotten = list(waiting)
    for telling in forgotten:
        defer_telling(telling.id)
    return len(forgotten)


def _preparations() -> int:
    """Those whose source is gone are asked for by nobody."""
    locks = {lock for (lock,) in _live("queueing_lock")}
    waiting = list(Preparing.select().where(Preparing.state == "queued"))
    forgotten = [each for each in waiting if f"prepare {each.digest}" not in locks]
    for each in forgotten:
        source = Source.get_or_none(Source.digest == each.source_digest)
        if source is None:
            end_preparation(each.digest, "gone", "Its source was taken out.")
        else:
            defer_preparation(source, recipe_from_json(each.steps))
    return len(forgotten)


def _named(argument: str) -> list[int]:
    """What the jobs of the queue are at, or wait for, by one of their arguments."""
    return [int(value) for (value,) in _live(f"args->>'{argument}'") if value is not None] or [0]


def _live(column: str) -> list[Any]:
    query = f"SELECT {column} FROM procrastinate_jobs WHERE status IN ('todo', 'doing')"
    found: list[Any] = database.execute_sql(query).fetchall()
    return found
