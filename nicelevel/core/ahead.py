"""Working ahead: the next blocks are made in a thread while the last ones are used. Decoding, resampling and kernels
let go of the interpreter's lock, so two processors are busy.
"""

import queue
import threading
from collections.abc import Callable, Iterator
from concurrent.futures import Future, ThreadPoolExecutor
from contextlib import contextmanager, suppress
from typing import TypeVar

T = TypeVar("T")

DEPTH = 16
"""So many blocks wait at most: memory stays bounded. A meter gathers about a dozen before it works on them."""


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
    with ThreadPoolExecutor(1) as pool:
        yield pool.submit(work)
