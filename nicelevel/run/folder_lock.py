"""One run for each data folder: the second is told where the first is."""

import fcntl
import json
import os
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import Any

from nicelevel.core.errors import NiceLevelError, NoPermissionError

NAME = "running.lock"


class RunningAlreadyError(NiceLevelError):
    """Another run works over the same data folder."""

    code = "running"


class FolderLock:
    """Held by the process that has it, whatever becomes of that; `say` leaves word for others."""

    def __init__(self, descriptor: int) -> None:
        self._descriptor = descriptor

    def say(self, address: str, database_port: int | None) -> None:
        """Where this run, and its database, can be found."""
        told = {"pid": os.getpid(), "address": address, "database_port": database_port}
        text = json.dumps(told).encode()
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
            raise RunningAlreadyError(_where(folder)) from error
        os.ftruncate(descriptor, 0)
        yield FolderLock(descriptor)
        os.ftruncate(descriptor, 0)
    finally:
        os.close(descriptor)


def said_by_run(folder: Path) -> dict[str, Any]:
    """What the run over a data folder has left word of; nothing while it is being started."""
    with suppress(ValueError, OSError):
        told: dict[str, Any] = json.loads((folder / NAME).read_text())
        return told
    return {}


def _where(folder: Path) -> str:
    told = said_by_run(folder)
    if told:
        return f"Nice Level runs over {folder} already, at {told['address']} (process {told['pid']})."
    return f"Nice Level is being started, or backed up, over {folder} by another command at this moment."
