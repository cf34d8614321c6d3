"""The journal: every change with who made it and when, in words."""

from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from contextvars import ContextVar
from typing import Any

from .door_models import JournalEntry

PROGRAM = "Nice Level"
"""Who made what nobody asked for at that time: a line at work, a rule that holds."""

THIS_MACHINE = "at this machine"
"""Whoever uses it where there are no accounts."""

_acting: ContextVar[str] = ContextVar("acting", default=PROGRAM)


@contextmanager
def acting(who: str) -> Iterator[None]:
    """Changes in the block are somebody's."""
    before = _acting.set(who)
    try:
        yield
    finally:
        _acting.reset(before)


def act_as(who: str) -> None:
    """Changes from here on, in this request or thread, are somebody's."""
    _acting.set(who)


def who_acts() -> str:
    return _acting.get()


def enter(words: str, job_id: int | None = None) -> None:
    """Keep that something was done. words: what, after the name of who did it: "removed two sources"."""
    JournalEntry.create(job=job_id, who=_acting.get(), words=words)


def journal(
    job_id: int | None, who: str = "", words: str = "", before: int | None = None, most: int = 200
) -> Sequence[JournalEntry]:
    """Entries, the latest first, of a job or (None) of the house.

    who: of one alone; words: only what has these in it, in any case; before: older than the entry with this number.
    """
    found = JournalEntry.select().where(_of(job_id))
    if who:
        found = found.where(JournalEntry.who == who)
    if words:
        found = found.where(JournalEntry.words.contains(words))
    if before is not None:
        found = found.where(JournalEntry.id < before)
    return list(found.order_by(JournalEntry.id.desc()).limit(most))


def who_did(job_id: int | None) -> list[str]:
    """Everybody with an entry, by name."""
    found = JournalEntry.select(JournalEntry.who).where(_of(job_id)).distinct()
    return sorted((each.who for each in found), key=str.casefold)


def _of(job_id: int | None) -> Any:
    return JournalEntry.job.is_null() if job_id is None else JournalEntry.job == job_id
