"""Many files through one core function: in input order, side by side, one bad file never stops the rest.

Ctrl-C and SIGTERM end it at once: what is done stays, what is half done is removed, and how much that was is said.
"""

import json
import os
import signal
import sys
import threading
from collections.abc import Callable, Iterable, Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager
from types import FrameType
from typing import Any, TypeVar

import click

from nicelevel.core import scratch
from nicelevel.core.ahead import under_way
from nicelevel.core.errors import DamagedError, NiceLevelError, TooLargeError
from nicelevel.report.as_json import error_json

_ENDING_SIGNALS = (signal.SIGINT, signal.SIGTERM, signal.SIGHUP)

Item = TypeVar("Item")
Result = TypeVar("Result")

Json = dict[str, Any]
Work = Callable[[int, str], Json]
"""Gets the number of the input, from 0, and its path."""
Show = Callable[[list[Json]], None]


def batch_options(command: Callable[..., Any]) -> Callable[..., Any]:
    """The options that every command over files has."""
    command = click.option(
        "--jobs", type=click.IntRange(min=1), default=os.cpu_count() or 1, help="Files worked on side by side."
    )(command)
    command = click.option("--json", "as_json", is_flag=True, help="Print JSON Lines for programs.")(command)
    return click.argument("files", nargs=-1, required=True, metavar="FILE…")(command)


def run_batch(files: Iterable[str], work: Work, jobs: int, as_json: bool, show: Show) -> None:
    """Do the work for each file and print; ends the command with status 1 where a file failed or missed."""
    answers: list[Json] = []
    todo = list(files)
    with _ending_at_once(answers, len(todo)), ThreadPoolExecutor(jobs) as pool:
        for answer in pool.map(lambda item: guarded(work, *item), enumerate(todo)):
            answers.append(answer)
            if as_json:
                click.echo(json.dumps(answer, ensure_ascii=False, allow_nan=False))
                sys.stdout.flush()
    if not as_json:
        show([answer for answer in answers if "error" not in answer])
        for answer in answers:
            if "error" in answer:
                click.echo(f"{answer['path']}: {answer['error']['message']}", err=True)
    if any("error" in answer or misses(answer) for answer in answers):
        raise click.exceptions.Exit(1)


def in_order(items: Sequence[Item], jobs: int, work: Callable[[Item], Result]) -> list[Result]:
    """What some work makes of each item, so many side by side."""
    with ThreadPoolExecutor(jobs) as pool:
        return list(pool.map(work, items))


@contextmanager
def _ending_at_once(answers: Sequence[Json], count: int) -> Iterator[None]:
    def done() -> str:
        return f"{len(answers)} of {count} done; nothing half is left." if count > 1 else _NOTHING_DONE

    with ending_at_once(done):
        yield


_NOBODY_WAITS = b"\0"
"""Instead of the number of a signal."""

_NOTHING_DONE = "Nothing was finished; nothing half is left."


@contextmanager
def ending_at_once(words: str | Callable[[], str]) -> Iterator[None]:
    """Let a signal end the process now, whatever its threads are at; status 128 and its number, as shells have it.

    A thread of its own waits for it: Python runs handlers in the main thread alone, once that comes back from what it
    waits for, which is never where the signal came just before the waiting or to another thread.

    words: what is said then.
    """
    # What is ignored on purpose stays ignored: nohup does so with a terminal that hangs up.
    asked = [each for each in _ENDING_SIGNALS if signal.getsignal(each) != signal.SIG_IGN]
    before = {number: signal.signal(number, _leave_it_to_who_waits) for number in asked}
    hears, tells = os.pipe()
    os.set_blocking(tells, False)
    told_before = signal.set_wakeup_fd(tells, warn_on_full_buffer=False)
    waiting = threading.Thread(target=_end_when_told, args=(hears, asked, words), daemon=True)
    waiting.start()
    try:
        yield
    finally:
        # In this order no signal comes to nothing in between.
        for number, handler in before.items():
            signal.signal(number, handler)
        signal.set_wakeup_fd(told_before)
        os.write(tells, _NOBODY_WAITS)
        waiting.join()
        os.close(hears)
        os.close(tells)


def _leave_it_to_who_waits(number: int, frame: FrameType | None) -> None:
    """Without a handler Python would not write the signal's number into the pipe."""


def _end_when_told(hears: int, asked: Sequence[int], words: str | Callable[[], str]) -> None:
    """Wait at a pipe for the number of a signal; returns where it is told that nobody waits any more."""
    while (told := os.read(hears, 1)) != _NOBODY_WAITS:
        if told[0] in asked:
            said = words if isinstance(words, str) else words()
            scratch.end_process(128 + told[0], f"\nnice-level: stopped. {said}\n", _ENDING_SIGNALS)


def guarded(work: Work, number: int, path: str) -> Json:
    """The answer for one file, or its error as the contract shapes it."""
    try:
        with under_way():
            return work(number, path)
    except NiceLevelError as error:
        return error_json(path, error)
    except MemoryError:
        return error_json(path, TooLargeError("There is not enough memory for this file."))
    except Exception as error:
        return error_json(path, DamagedError(f"The file could not be worked on: {error or type(error).__name__}."))


def misses(answer: Json) -> bool:
    """Whether a check, or any output of a render, misses its spec, or an output could not be made."""
    outputs = answer.get("outputs", [])
    verdicts = [answer.get("verdict"), *(output.get("verdict") for output in outputs)]
    return "misses" in verdicts or any("error" in output for output in outputs)
