"""What a process must not leave behind: temporary files and folders, known by path while they exist.

Work that ends by itself removes its own. Who ends the process at once, in the middle of work, removes all of them.
"""

import shutil
import tempfile
import threading
from pathlib import Path

_lock = threading.Lock()
_there: set[Path] = set()


def is_there(path: Path) -> None:
    """Say that a temporary file or folder exists."""
    with _lock:
        _there.add(path)


def is_gone(path: Path) -> None:
    """Say that it has been removed, or got its name."""
    with _lock:
        _there.discard(path)


def remove_all() -> None:
    """Remove whatever still exists: the last thing that a process does that ends at once."""
    with _lock:
        for path in _there:
            if path.is_dir():
                shutil.rmtree(path, ignore_errors=True)
            else:
                path.unlink(missing_ok=True)


class ScratchFolder(tempfile.TemporaryDirectory[str]):
    """A folder for what nobody needs afterwards; a context manager that gives its path."""

    def __init__(self) -> None:
        super().__init__(prefix="nice-level-")
        is_there(Path(self.name))

    def cleanup(self) -> None:
        super().cleanup()
        is_gone(Path(self.name))
