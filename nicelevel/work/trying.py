"""How a task is tried: once among others, then in a process of its own, and never without an end.

The first try runs in a thread of the worker. If the worker was lost meanwhile, nobody knows which of its tasks it was
lost to: so each is tried again in a process of its own, where a library that aborts harms nothing else. What takes
that process with it too is ended with a sentence.
"""

import json
import logging
import os
import signal
import subprocess
import sys
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from dataclasses import dataclass
from functools import partial
from typing import Any

import procrastinate
import psycopg
from procrastinate.retry import BaseRetryStrategy, RetryDecision

from nicelevel.config import Config
from nicelevel.core.ahead import under_way
from nicelevel.core.errors import NiceLevelError, NoPermissionError, NoSpaceError, StoppedError
from nicelevel.core.progress import Progress
from nicelevel.logs import trace, traced
from nicelevel.store.database import GONE, connected, persistently, reconnect
from nicelevel.store.depot import DepotAwayError

from .app import queue

logger = logging.getLogger("nicelevel.work")

TOLD_EVERY_S = 0.25
LOOK_EVERY_S = 0.1
PUT_BACK_S = 3.0
"""A worker that ends has no more time than that to put back what it was at; another finds it anyway."""

MOST_TRIES = 8
PASSING_WAITS_S = (2, 10, 30)
"""What may pass, like a full disk, is tried again after so long; then it is said."""

AWAY = (*GONE, psycopg.Error, procrastinate.exceptions.ConnectorException)
"""What is raised where the database is away or breaks a statement off, whichever way it was asked: by a table, by the
driver, by the queue. It says nothing of the file that is worked on."""

TRY_AGAIN_STATUS = 75
"""What the process of one try ends with where it is to be tried again (EX_TEMPFAIL of sysexits.h)."""

UNEXPECTED = "Something went wrong inside Nice Level; the log of the worker says what."
TOOK_ITS_PROCESS = (
    "The program that worked on it ended in the middle, twice: something in this file is more than it can bear. "
    "Nothing else was harmed."
)
TRACE = "trace"
"""Among the arguments of a task on the queue: the id of what asked for it."""

TOO_OFTEN = f"It was begun {MOST_TRIES} times and never came to an end."


class WorkerEndsError(NiceLevelError):
    """The worker is to end: what it is at goes back on the queue."""

    code = "worker_ends"


class PassingError(NiceLevelError):
    """What failed may be well in a while."""

    code = "passing"


class _Again(BaseRetryStrategy):
    """What is tried again, and when: all that says nothing of the file itself."""

    def get_retry_decision(self, *, exception: BaseException, job: Any) -> RetryDecision | None:
        if isinstance(exception, WorkerEndsError):
            return RetryDecision(retry_in={"seconds": 0})
        if isinstance(exception, DepotAwayError):
            return RetryDecision(retry_in={"seconds": PASSING_WAITS_S[-1]})
        if isinstance(exception, PassingError):
            return RetryDecision(retry_in={"seconds": PASSING_WAITS_S[min(job.attempts, len(PASSING_WAITS_S) - 1)]})
        if isinstance(exception, AWAY):
            return RetryDecision(retry_in={"seconds": PASSING_WAITS_S[0]})
        return None


@dataclass(frozen=True)
class Call:
    """One try of a task: the settings, how many tries there were before, and whether it should end."""

    config: Config
    attempts: int
    should_end: Callable[[], bool]


@dataclass(frozen=True)
class Work:
    """A task: what does it, and what says of its row, from outside, that it cannot be done.

    give_up: gets the settings, code and sentence, and the arguments; removes what the last try left.
    """

    do: Callable[..., None]
    give_up: Callable[..., None]


WORKS: dict[str, Work] = {}


class _Traced:
    """A task of the queue that takes along the id of what it was asked for by, so that its logs say so."""

    def __init__(self, made: Any) -> None:
        self._made = made

    def configure(self, **options: Any) -> Any:
        return self._made.configure(**options, task_kwargs={TRACE: trace()} if trace() else {})

    def defer(self, **arguments: Any) -> Any:
        return self.configure().defer(**arguments)


def task(give_up: Callable[..., None], on: str = "default") -> Callable[[Callable[..., None]], Any]:
    """Make a task of a function `(call, **arguments)`; its arguments alone identify what it works on."""

    def register(do: Callable[..., None]) -> Any:
        name = do.__name__
        WORKS[name] = Work(do, give_up)

        def begin(context: procrastinate.JobContext, /, **arguments: Any) -> None:
            config: Config = context.additional_context["config"]
            with traced(arguments.pop(TRACE, "")):
                _begin(name, Call(config, context.job.attempts, context.should_abort), arguments)

        return _Traced(queue.task(name=name, pass_context=True, retry=_Again(), queue=on)(begin))

    return register


def _begin(name: str, call: Call, arguments: dict[str, Any]) -> None:
    with connected():
        if call.attempts >= MOST_TRIES:
            WORKS[name].give_up(call.config, "never_ended", TOO_OFTEN, **arguments)
        elif call.attempts == 0:
            do_here(name, call, arguments)
        else:
            _do_alone(name, call, arguments)


def do_here(name: str, call: Call, arguments: dict[str, Any]) -> None:
    """Do a task in this process and thread."""
    with under_way():
        WORKS[name].do(call, **arguments)


def _do_alone(name: str, call: Call, arguments: dict[str, Any]) -> None:
    """Do a task in a process of its own; where that is lost too, give up. It ends with us."""
    what = [name, str(call.attempts), json.dumps(arguments)]
    command = [sys.executable, "-m", "nicelevel.cli.main", "try-task", *what]
    environment = {**os.environ, **call.config.environment(), "NICE_LEVEL_TRACE": trace()}
    process = subprocess.Popen(["setpriv", "--pdeathsig", "KILL", *command], env=environment, start_new_session=True)
    while (status := process.poll()) is None:
        if call.should_end():
            process.terminate()
            with suppress(subprocess.TimeoutExpired):
                process.wait(PUT_BACK_S)
            process.kill()
            process.wait()
            raise WorkerEndsError("The worker ends.")
        time.sleep(LOOK_EVERY_S)
    if status == TRY_AGAIN_STATUS:
        raise PassingError(f"{name} is tried again.")
    if status > 0:
        # It never got as far as the task: that says nothing of what it works on.
        raise PassingError(f"{name} could not be begun (status {status}).")
    if status:
        logger.error("%s %s took its process with it (%s)", name, arguments, signal.Signals(-status).name)
        persistently(partial(WORKS[name].give_up, call.config, "crashed", TOOK_ITS_PROCESS, **arguments))


def try_task(name: str, call: Call, arguments: dict[str, Any]) -> int:
    """What the process of one try does; its exit status. Raises KeyError where there is no such task."""
    if name not in WORKS:
        raise KeyError(name)
    try:
        with connected():
            do_here(name, call, arguments)
    except (WorkerEndsError, PassingError, DepotAwayError, *AWAY) as error:
        logger.warning("%s %s: %s", name, arguments, error)
        return TRY_AGAIN_STATUS
    except Exception:
        # It has been saved as failed; what went wrong is for the log alone.
        logger.exception("%s %s", name, arguments)
    return 0


def progress_of(call: Call, save: Callable[[float], bool]) -> Progress:
    """A progress that is saved at most four times a second, and ends the work where it should end.

    It raises StoppedError where nobody wants the work any more, or another try has begun, and WorkerEndsError. A
    database that does not answer for a while holds nothing up.
    """

    def tell(ratio: float) -> None:
        if call.should_end():
            raise WorkerEndsError("The worker ends.")
        try:
            goes_on = save(ratio)
        except GONE:
            with suppress(*GONE):
                reconnect()
            return
        if not goes_on:
            raise StoppedError("Stopped.")

    return throttled(tell)


def throttled(tell: Callable[[float], None]) -> Progress:
    """A progress that is passed on at most four times a second."""
    last_s = -TOLD_EVERY_S

    def progress(ratio: float) -> None:
        nonlocal last_s
        if time.monotonic() - last_s >= TOLD_EVERY_S:
            last_s = time.monotonic()
            tell(ratio)

    return progress


@contextmanager
def ending(
    call: Call, fail: Callable[[str, str], bool], put_back: Callable[[], bool], can_pass: bool = False
) -> Iterator[None]:
    """Save how a try ended where it did not end well, in one place for every way out.

    fail, put_back: save in the try; False where it is not the newest. can_pass: whether a full disk is waited for.
    """
    try:
        yield
    except StoppedError:
        logger.info("stopped, or begun anew elsewhere")
    except WorkerEndsError:
        with suppress(*GONE):
            persistently(put_back, PUT_BACK_S)
        raise
    except AWAY:
        raise
    except DepotAwayError:
        persistently(put_back)
        raise
    except NiceLevelError as error:
        may_pass = isinstance(error, NoSpaceError | NoPermissionError) and call.attempts < len(PASSING_WAITS_S)
        if can_pass and may_pass and persistently(put_back):
            raise PassingError(error.message) from error
        persistently(partial(fail, error.code, error.message))
    except Exception:
        if persistently(partial(fail, "error", UNEXPECTED)):
            raise
        logger.info("lost to another try", exc_info=True)
