"""What has changed, for pages that ask often: one listener hears it from PostgreSQL, for all of them.

A page asks what came after the version that it has seen. No answer waits for anything, so open pages hold nothing.
"""

import json
import logging
import threading
import time
import uuid
from collections import deque
from typing import Any

import psycopg
from flask import Blueprint, current_app, jsonify, request

from nicelevel.store.changes import CHANNEL
from nicelevel.store.database import GONE, connected
from nicelevel.store.progress import progress_now

from .matter import DATABASE_AWAY, matters_of_pages

changes = Blueprint("changes", __name__)
logger = logging.getLogger("nicelevel.web")

KEPT = 5000
"""A page that has missed more than so many is told to fetch everything."""

PULSE_S, AGAIN_S = 5.0, 0.5
FOLLOWED_S, LOOKED_AT_S = 0.35, 2.0

MATTERS_AFTER = 2
"""What is found so many times in a row is said: a worker that is just started again is no matter."""


class Changes:
    """The latest changes in their order, each with its number. May be used from many threads."""

    def __init__(self, database_url: str) -> None:
        self._url = database_url
        self._kept: deque[tuple[int, dict[str, Any]]] = deque(maxlen=KEPT)
        self._lock = threading.Lock()
        self._run, self._number, self._is_listening = "", 0, False
        self._listener: threading.Thread | None = None
        self._matter, self._asked_s = "", 0.0

    def since(self, version: str) -> dict[str, Any]:
        """What came after a version; `everything` where that cannot be told.

        version: as it was told last, or nothing. trouble: a sentence while something does not answer that work needs.
        """
        self._listen()
        self._asked_s = time.monotonic()
        run, _, number = version.partition(".")
        with self._lock:
            oldest = self._kept[0][0] if self._kept else self._number + 1
            is_known = run == self._run and number.isdigit() and int(number) >= oldest - 1
            fresh = [change for at, change in self._kept if at > int(number)] if is_known else []
            return {
                "version": f"{self._run}.{self._number}",
                "everything": not is_known,
                "changes": fresh,
                "trouble": self._matter if self._is_listening else DATABASE_AWAY,
            }

    def _listen(self) -> None:
        """Begin to listen with the first who asks, and wait a moment until that has begun."""
        with self._lock:
            is_first = self._listener is None
            if self._listener is None:
                self._listener = threading.Thread(target=self._listen_for_ever, daemon=True)
                self._listener.start()
                for beside in (self._look_for_ever, self._follow_for_ever):
                    threading.Thread(target=beside, daemon=True).start()
        end_s = time.monotonic() + PULSE_S
        while is_first and not self._is_listening and time.monotonic() < end_s:
            time.sleep(0.01)

    def _listen_for_ever(self) -> None:
        while True:
            try:
                self._listen_once()
            except (psycopg.Error, OSError):
                self._is_listening = False
                time.sleep(AGAIN_S)

    def _look_for_ever(self) -> None:
        """Ask now and then what is the matter, for all pages."""
        last: list[str] = []
        while True:
            try:
                found = list(matters_of_pages()) if self._is_listening else []
            except Exception:
                logger.exception("what is the matter could not be asked")
                found = []
            last = [*last[1 - MATTERS_AFTER :], " ".join(found)]
            self._matter = last[-1] if len(last) == MATTERS_AFTER and all(last) else ""
            time.sleep(PULSE_S)

    def _follow_for_ever(self) -> None:
        """Ask how far everything is, for all pages, while anybody looks at one."""
        last: dict[tuple[int, int], float] = {}
        while True:
            time.sleep(FOLLOWED_S)
            if not self._is_listening or time.monotonic() - self._asked_s > LOOKED_AT_S:
                continue
            try:
                with connected():
                    now = progress_now()
            except GONE:
                continue
            except Exception:
                logger.exception("how far everything is could not be asked")
                continue
            for job_id, source_id in (place for place, ratio in now.items() if last.get(place) != ratio):
                self._add({"job": job_id, "source": source_id})
            last = now

    def _listen_once(self) -> None:
        with psycopg.connect(self._url, autocommit=True) as connection:
            connection.execute(f"LISTEN {CHANNEL}")
            with self._lock:
                # What was said before we listened is not known: every page fetches everything once.
                self._run, self._number, self._is_listening = uuid.uuid4().hex[:8], 0, True
                self._kept.clear()
            while True:
                for notice in connection.notifies(timeout=PULSE_S):
                    self._add(json.loads(notice.payload))
                connection.execute("SELECT 1")

    def _add(self, change: dict[str, Any]) -> None:
        with self._lock:
            self._number += 1
            self._kept.append((self._number, change))


@changes.get("/changes")
def since() -> Any:
    """What has changed since a version: what every open page asks a few times a second."""
    known: Changes = current_app.extensions["changes"]
    answer = jsonify(known.since(request.args.get("since", "")))
    answer.headers["Cache-Control"] = "no-store"
    return answer
