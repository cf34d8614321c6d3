"""What a process must not leave behind: temporary files and folders, known by path while they exist.

Work that ends by itself removes its own. Who ends the process at once, in the middle of work, removes all of them.
"""

import os
import signal
import tempfile
import threading
from collections.abc import Iterable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import NoReturn

_lock = threading.Lock()
_there: set[Path] = set()

_LAST_PROGRAM = 'words=$1; shift; rm -rf -- "$@"; printf "%s" "$words" >&2; exit "$0"'


@contextmanager
def being_made(path: Path) -> Iterator[None]:
    """While a temporary file comes into being, the process does not end at once; then it is known."""
    with _lock:
        yield
        _there.add(path)


def is_gone(path: Path) -> None:
    """Say that it has been removed, or got its name."""
    with _lock:
        _there.discard(path)


def end_process(status: int, words: str, ignoring: Iterable[int]) -> NoReturn:
    """Remove whatever still exists, say the words on stderr and end with a status, deaf to these signals meanwhile.

    Another program takes the place of this one and does it: no thread of ours outlives that, so none can open a file
    anew that has just been removed. Not from a thread in which a file is `being_made`.
    """
    with _lock:
        # A program keeps what the thread that it takes the place of was deaf to.
        signal.pthread_sigmask(signal.SIG_BLOCK, ignoring)
        os.execv("/bin/sh", ["sh", "-c", _LAST_PROGRAM, str(status), words, *map(str, _there)])


class ScratchFolder(tempfile.TemporaryDirectory[str]):
    """A folder for what nobody needs afterwards; a context manager that gives its path."""

    def __init__(self) -> None:
        with _lock:
            super().__init__(prefix="nice-level-")
            _there.add(Path(self.name))

    def cleanup(self) -> None:
        super().cleanup()
        is_gone(Path(self.name))
