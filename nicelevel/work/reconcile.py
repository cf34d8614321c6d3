"""Rows that say that something is under way while no job of the queue is: what was begun comes to an end."""

from collections.abc import Callable
from typing import Any

from peewee import SQL, Table, Value, fn

from nicelevel.core.steps import recipe_from_json
from nicelevel.store.arrivals import UNDER_WAY as COMING
from nicelevel.store.database import database
from nicelevel.store.deliverables import UNFINISHED, with_names
from nicelevel.store.models import Arrival, Deliverable, Preparing, Sending, Source, Telling
from nicelevel.store.prepared import end_preparation
from nicelevel.store.runs import LOCK_OF_DELIVERABLE
from nicelevel.store.sendings import UNDER_WAY
from nicelevel.store.sources import UNMEASURED, end_source

from .arriving import enqueue_arrival
from .enqueue import enqueue_measuring, enqueue_renderings, enqueue_sending_of
from .tasks import defer_preparation
from .telling import defer_telling

SUM_LOST = "Its members are not known any more: make the sum once more."


def requeue_forgotten() -> int:
    """Queue again what waits or is under way and has no job; how many those were."""
    return _sources() + _deliverables() + _sendings() + _preparations() + _arrivals() + _tellings()


def _sources() -> int:
    forgotten = list(Source.select().where(Source.state.in_(UNMEASURED), _nobody_works_on(Source, "source_id")))
    for source in forgotten:
        with database.atomic():
            if source.kind == "sum" and not source.digest:
                end_source(source, "lost", SUM_LOST)
            else:
                enqueue_measuring(source)
    return len(forgotten)


def _deliverables() -> int:
    # By their locks, of which the queue has an index: there may be a million of them.
    nobody = _no_job(lambda jobs: jobs.c.lock == _text(LOCK_OF_DELIVERABLE.format(""), Deliverable.id))
    forgotten = list(with_names().where(Deliverable.state.in_(UNFINISHED), nobody))
    with database.atomic():
        enqueue_renderings(forgotten)
    return len(forgotten)


def _sendings() -> int:
    forgotten = list(Sending.select().where(Sending.state.in_(UNDER_WAY), _nobody_works_on(Sending, "sending_id")))
    for sending in forgotten:
        with database.atomic():
            enqueue_sending_of(sending)
    return len(forgotten)


def _arrivals() -> int:
    waiting = Arrival.select().where(Arrival.state.in_(COMING), _nobody_works_on(Arrival, "arrival_id"))
    forgotten = list(waiting.order_by(Arrival.id))
    for arrival in forgotten:
        with database.atomic():
            enqueue_arrival(arrival)
    return len(forgotten)


def _tellings() -> int:
    forgotten = list(Telling.select().where(Telling.state == "waiting", _nobody_works_on(Telling, "telling_id")))
    for telling in forgotten:
        defer_telling(telling.id)
    return len(forgotten)


def _preparations() -> int:
    """Those whose source is gone are asked for by nobody."""
    nobody = _no_job(lambda jobs: jobs.c.queueing_lock == _text("prepare ", Preparing.digest))
    forgotten = list(Preparing.select().where(Preparing.state == "queued", nobody))
    for each in forgotten:
        source = Source.get_or_none(Source.digest == each.source_digest)
        if source is None:
            end_preparation(each.digest, "gone", "Its source was taken out.")
        else:
            defer_preparation(source, recipe_from_json(each.steps))
    return len(forgotten)


def _nobody_works_on(model: Any, argument: str) -> Any:
    """The condition that no job of the queue is at a row, or waits for it, by one of its arguments."""
    return _no_job(lambda jobs: SQL(f"args->>'{argument}'") == model.id.cast("text"))


def _no_job(of: Callable[[Table], Any]) -> Any:
    jobs = Table("procrastinate_jobs")
    return ~fn.EXISTS(jobs.select(SQL("1")).where(SQL("status IN ('todo', 'doing')"), of(jobs)))


def _text(start: str, column: Any) -> Any:
    """Words with a column behind them; the server must be told that the words are text."""
    return fn.CONCAT(Value(start).cast("text"), column)
