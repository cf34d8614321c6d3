"""Turns at what one process is to do for all of them, on however many machines, by the clock of the database."""

from .database import database


def take_turn(name: str, every_s: float) -> bool:
    """Whether it is this process's turn; nobody else's then for so many seconds."""
    taken = database.execute_sql(
        "INSERT INTO turn (name, taken_at) VALUES (%s, now()) ON CONFLICT (name) DO UPDATE SET taken_at = now()"
        " WHERE turn.taken_at <= now() - make_interval(secs => %s) RETURNING name",
        (name, every_s),
    )
    return taken.fetchone() is not None
