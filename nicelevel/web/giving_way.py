"""Long counts give way: while somebody waits for a page, what only counts for the bar stands still.

A server's Python computes one thing at a time; two that compute side by side each take twice as long.
"""

import threading
import time

from flask import Flask, g, request

LOOK_EVERY_S, LONGEST_S = 0.01, 30.0
"""A count gives way for so long in all: it has to come to its end as well."""

COUNTING = ("jobs.bar", "jobs.row", "changes.since", "static")
"""What waits for a count itself, and what takes no time. Nor do uploads count: they take as long as their files."""


class GivingWay:
    """How many wait for a page now. May be used from many threads."""

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self._waiting = 0

    def come(self) -> None:
        with self._lock:
            self._waiting += 1

    def go(self) -> None:
        with self._lock:
            self._waiting -= 1

    @property
    def is_waited(self) -> bool:
        return self._waiting > 0


class Count:
    """One long count; it calls `pause` again and again."""

    def __init__(self, way: GivingWay, longest_s: float = LONGEST_S) -> None:
        self._way, self._left_s = way, longest_s

    def pause(self) -> None:
        """Stand still while anybody waits."""
        while self._way.is_waited and self._left_s > 0.0:
            time.sleep(LOOK_EVERY_S)
            self._left_s -= LOOK_EVERY_S


def register(app: Flask) -> None:
    way = app.extensions["giving_way"] = GivingWay()

    @app.before_request
    def come() -> None:
        if request.endpoint not in COUNTING and request.blueprint != "uploads":
            way.come()
            g.is_waiting = True

    @app.teardown_request
    def go(error: BaseException | None) -> None:
        if g.pop("is_waiting", False):
            way.go()
