"""Working ahead: the next blocks are made in a thread while the last ones are used. Decoding, resampling and kernels
let go of the interpreter's lock, so two processors are busy.

Where as many files are worked on side by side as there are processors, each keeps to its own thread: more of them
would only wait for each other.
"""

import os
import queue
import threading
from collections.abc import Callable, Iterator
from concurrent.futures import Executor, Future, ThreadPoolExecutor
from contextlib import contextmanager, suppress
from typing import Any, TypeVar

T = TypeVar("T")

DEPTH = 16
"""So many blocks wait at most: memory stays bounded. A meter gathers about a dozen before it works on them."""


_lock = threading.Lock()
_under_way = 0


@contextmanager
def under_way() -> Iterator[None]:
    """Count a file that is worked on, for as long as the context lasts."""
    global _under_way
    with _lock:
        _under_way += 1
    try:
        yield
    finally:
        with _lock:
            _under_way -= 1


def has_free_processor() -> bool:
    """Whether there are more processors than files under way."""
    return _under_way < len(os.sched_getaffinity(0))


class _End:
    """What comes after the last block: the error that ended the work, or None."""

    def __init__(self, error: BaseException | None) -> None:
        self.error = error


@contextmanager
def ahead(blocks: Iterator[T]) -> Iterator[Iterator[T]]:
    """The same blocks, made in a thread of their own that has ended when the context is left.

    So nothing that the blocks are made from is closed under it. An error of the maker is raised where its block would
    have come.
    """
    if not has_free_processor():
        yield blocks
        return
    waiting: queue.Queue[T | _End] = queue.Queue(DEPTH)
    stopped = threading.Event()

    def put(what: T | _End) -> None:
        is_taken = False
        while not is_taken and not stopped.is_set():
            with suppress(queue.Full):
                waiting.put(what, timeout=0.1)
                is_taken = True

    def make() -> None:
        try:
            for block in blocks:
                put(block)
                if stopped.is_set():
                    return
        except BaseException as error:
            put(_End(error))
        else:
            put(_End(None))

    maker = threading.Thread(target=make, daemon=True)
    maker.start()
    try:
        yield _taken(waiting)
    finally:
        stopped.set()
        maker.join()


def _taken(waiting: "queue.Queue[T | _End]") -> Iterator[T]:
    while True:
        block = waiting.get()
        if isinstance(block, _End):
            if block.error is not None:
                raise block.error
            return
        yield block


@contextmanager
def beside(work: Callable[[], T]) -> Iterator[Future[T]]:
    """The result of some work that is done in a thread meanwhile."""
    with own_thread() as thread:
        yield thread.submit(work)


def own_thread() -> Executor:
    """Something that does what is submitted, one after the other, in a thread of its own."""
    return ThreadPoolExecutor(1) if has_free_processor() else _AtOnce()


class _AtOnce(Executor):
    """Does what is submitted before it goes on."""

    def submit(self, work: Callable[..., T], /, *arguments: Any, **named: Any) -> Future[T]:
        done: Future[T] = Future()
        try:
            done.set_result(work(*arguments, **named))
        except BaseException as error:
            done.set_exception(error)
        return done
