"""Counts over all rows of a job: made in a thread of their own, once for however many pages ask.

Nobody is kept waiting by one. Who asks before a count is there gets nothing yet (202), asks again and says how long
ago the first time was: a count that has begun since then knows all that the page knew.
"""

import threading
import time
from collections.abc import Callable
from contextlib import suppress
from dataclasses import dataclass, field

from flask import Flask, current_app, request

from nicelevel.store.database import connected
from nicelevel.store.models import Job

from .board import Counted, counted_of
from .giving_way import Count

WAITING, WAIT_S = 4, 0.5
"""Most counts take less: so many requests wait for so long. Others are told at once to ask again, for who waits holds
one of the server's threads."""

LONGEST_S = 3600.0
"""Nobody asks for one count for longer."""

LONGEST_REST_S = 2.0
"""A job is counted again only after as long as it took, up to this: while something changes all the time, as it does
where files are rendered, the processor is there for them too."""

SIDE_BY_SIDE = 3
JOBS_REMEMBERED = 100


@dataclass
class _Begun:
    """One count, by the clock of `time.monotonic`. after_s: it does not begin before; began_s: None until it does;
    rests_until_s: the next one does not begin before that.
    """

    after_s: float
    began_s: float | None = None
    rests_until_s: float = 0.0
    ended: threading.Event = field(default_factory=threading.Event)
    found: Counted | None = None
    error: Exception | None = None

    def knows(self, asked_s: float) -> bool:
        """Whether it has ended and began after a moment."""
        return self.ended.is_set() and self.began_s is not None and self.began_s >= asked_s


class Counts:
    """The latest count of each job. May be used from many threads."""

    def __init__(self, count: Callable[[int], Counted]) -> None:
        self._count = count
        self._lock = threading.Lock()
        self._latest: dict[int, _Begun] = {}
        self._turns = threading.Semaphore(SIDE_BY_SIDE)
        self._waiting = threading.Semaphore(WAITING)

    def counted(self, job_id: int, asked_s: float) -> Counted | None:
        """What a count says that began after somebody asked; None where there is none yet.

        asked_s: on the clock of `time.monotonic`. Raises as counting does.
        """
        waits = self._waiting.acquire(blocking=False)
        end_s = time.monotonic() + (WAIT_S if waits else 0.0)
        try:
            while not (latest := self._latest_of(job_id, asked_s)).knows(asked_s):
                if not latest.ended.wait(max(0.0, end_s - time.monotonic())):
                    return None
        finally:
            if waits:
                self._waiting.release()
        if latest.error:
            raise latest.error
        return latest.found

    def _latest_of(self, job_id: int, asked_s: float) -> _Begun:
        """The one that is under way, or one that ended and knows enough, or a new one."""
        with self._lock:
            latest = self._latest.pop(job_id, None)
            if latest is None or (latest.ended.is_set() and not latest.knows(asked_s)):
                latest = _Begun(after_s=latest.rests_until_s if latest else 0.0)
                threading.Thread(target=self._run, args=(job_id, latest), daemon=True).start()
            self._latest[job_id] = latest
            if len(self._latest) > JOBS_REMEMBERED:
                del self._latest[next(iter(self._latest))]
            return latest

    def _run(self, job_id: int, begun: _Begun) -> None:
        time.sleep(max(0.0, begun.after_s - time.monotonic()))
        with self._turns:
            begun.began_s = time.monotonic()
            try:
                begun.found = self._count(job_id)
            except Exception as error:  # whoever asks gets it
                begun.error = error
            ended_s = time.monotonic()
            begun.rests_until_s = ended_s + min(ended_s - begun.began_s, LONGEST_REST_S)
            begun.ended.set()


def count_of(job: Job) -> Counted | None:
    """What is counted over a job, for this request."""
    waited_s = 0.0
    with suppress(ValueError):
        waited_s = min(max(0.0, float(request.args.get("waited_ms", "0")) / 1000), LONGEST_S)
    counts: Counts = current_app.extensions["counts"]
    return counts.counted(job.id, time.monotonic() - waited_s)


def register(app: Flask) -> None:
    def count(job_id: int) -> Counted:
        with connected():
            return counted_of(job_id, app.config["AUDIO"], Count(app.extensions["giving_way"]).pause)

    app.extensions["counts"] = Counts(count)
