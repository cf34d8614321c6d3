"""One run for each data folder: the second is told where the first is."""

import fcntl
import json
import os
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path

from nicelevel.core.errors import NiceLevelError, NoPermissionError

NAME = "running.lock"


class RunningAlreadyError(NiceLevelError):
    """Another run works over the same data folder."""

    code = "running"


class FolderLock:
    """Held by the process that has it, whatever becomes of that; `say` leaves word for others."""

    def __init__(self, descriptor: int) -> None:
        self._descriptor = descriptor

    def say(self, address: str) -> None:
        """Where this run can be found."""
        text = json.dumps({"pid": os.getpid(), "address": address}).encode()
        os.ftruncate(self._descriptor, 0)
        os.pwrite(self._descriptor, text, 0)


@contextmanager
def folder_lock(folder: Path) -> Iterator[FolderLock]:
    """The data folder for ourselves while the block runs.

    Raises RunningAlreadyError, saying where the other run is, and NoPermissionError where no such folder can be.
    """
    try:
        folder.mkdir(parents=True, exist_ok=True)
        descriptor = os.open(folder / NAME, os.O_RDWR | os.O_CREAT | os.O_CLOEXEC, 0o600)
    except OSError as error:
        reason = (error.strerror or str(error)).lower()
        raise NoPermissionError(f"The data folder {folder} cannot be used: {reason}.") from error
    try:
        try:
            fcntl.flock(descriptor, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except BlockingIOError as error:
            raise RunningAlreadyError(_where(folder, os.pread(descriptor, 1000, 0))) from error
        os.ftruncate(descriptor, 0)
        yield FolderLock(descriptor)
        os.ftruncate(descriptor, 0)
    finally:
        os.close(descriptor)


def _where(folder: Path, said: bytes) -> str:
    with suppress(ValueError, KeyError):
        told = json.loads(said)
        return f"Nice Level runs over {folder} already, at {told['address']} (process {told['pid']})."
    return f"Nice Level is being started, or backed up, over {folder} by another command at this moment."
