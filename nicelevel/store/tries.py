"""Tries at a row: who works on it holds its newest token, and only that one's word counts.

A worker that stood still for a while, or was cut off, may find that another has begun anew. Its token is then an old
one: nothing that it saves is taken, in the same statement that would have saved it.
"""

from collections.abc import Sequence
from typing import Any

from peewee import fn


def begin_try(row: Any, among: Sequence[str], telling: Sequence[Any] = (), **columns: Any) -> bool:
    """Take the row of a table over with a new token, where it is in one of these states; False where it is not.

    telling: what is announced with it (`changes.change_of`), in the same statement.
    """
    model = type(row)
    query = model.update(token=fn.nextval("try_token"), **columns).where(model.id == row.id, model.state.in_(among))
    found = list(query.returning(model.token, *telling))
    if found:
        row.token = found[0].token
    return bool(found)


def save_in_try(row: Any, among: Sequence[str], telling: Sequence[Any] = (), **columns: Any) -> bool:
    """Save columns of such a row; False where its try has been stopped or is not the newest any more."""
    model = type(row)
    query = model.update(**columns).where(model.id == row.id, model.token == row.token, model.state.in_(among))
    # One statement, and one way to the server and back: progress is saved four times a second of everything.
    return bool(list(query.returning(model.id, *telling).tuples()))
