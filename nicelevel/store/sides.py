"""Files of one channel that are sides of one source: which lie beside each other, and what is asked about them."""

from collections.abc import Iterable, Sequence
from typing import Any

from .changes import announce
from .database import database
from .models import Side, Source


def add_sides(digest: str, side_digests: Sequence[str]) -> None:
    """Keep of what contents consist. Safe to do twice."""
    rows = [{"digest": digest, "place": at, "side_digest": each} for at, each in enumerate(side_digests)]
    Side.insert_many(rows).on_conflict_ignore().execute()


def sides_of(digests: Iterable[str]) -> list[tuple[str, str]]:
    """Of all contents that are several files side by side: their digest, and that of each of the files."""
    query = Side.select().where(Side.digest.in_(list(digests))).order_by(Side.digest, Side.place)
    return [(each.digest, each.side_digest) for each in query]


def beside(digest: str) -> list[str]:
    """The contents that some contents are a side of."""
    return [each.digest for each in Side.select(Side.digest).where(Side.side_digest == digest).distinct()]


def needed_as_sides() -> set[str]:
    """The contents that sources consist of which are several files side by side."""
    consisting = Side.select(Side.side_digest).where(Side.digest.in_(Source.select(Source.digest)))
    return {each.side_digest for each in consisting}


def forget_sides(digest: str) -> None:
    """Contents that are gone have none."""
    Side.delete().where(Side.digest == digest).execute()


def keep_sides(first: Source, others: Sequence[Source], found: dict[str, Any]) -> None:
    """Keep what was heard, or answered, of sources that are named like sides of one."""
    kept = found | {"members": sorted(each.id for each in others)}
    with database.atomic():
        Source.update(sides=kept).where(Source.id == first.id).execute()
        for each in (first, *others):
            announce(first.job_id, each.id)
