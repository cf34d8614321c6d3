"""A file that has no name until it is whole.

It comes into being under a temporary name that belongs to one try alone, in the folder where it will stand; only
`publish` gives it its name. The temporary file is locked while its maker lives: so a second maker of the same name is
told, and what a killed one left is swept by the next.
"""

import ctypes
import errno
import fcntl
import glob
import os
import secrets
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path

import soundfile

from ..errors import NoPermissionError, NoSpaceError, OutputExistsError
from ..scratch import being_made, is_gone

_FULL_CODES = {errno.ENOSPC, errno.EDQUOT, errno.EFBIG}
_NO_LINKS_CODES = {errno.EPERM, errno.EOPNOTSUPP, errno.ENOSYS, errno.EMLINK, errno.EACCES}
"""What a file system without hard links says to one (link(2)): exFAT, FAT and some shares."""

_NO_RENAME_CODES = {errno.EINVAL, errno.ENOSYS, errno.EOPNOTSUPP}
"""What is said where a rename cannot refuse a taken name (renameat2(2))."""

_AT_FDCWD, _RENAME_NOREPLACE = -100, 1


class StagedFile:
    """A file under its temporary name: `.NAME.….part` beside where NAME will stand, empty at first.

    Raises OutputExistsError where another living process is writing a file of the same name here.
    """

    def __init__(self, final: Path) -> None:
        self.final = final
        with speaking_errors(final), _folder_to_itself(final.parent):
            _refuse_second_maker(final)
            self.path = final.with_name(f".{final.name}.{secrets.token_hex(6)}.part")
            # A link that somebody put under this name is not followed.
            flags = os.O_RDWR | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW | os.O_CLOEXEC
            with being_made(self.path):
                self._held = os.open(self.path, flags, 0o666)
            _lock(self._held)

    def publish(self, name: str | None = None, replace: bool = False) -> Path:
        """Give the file its name (its own or another one in the same folder) and return its path.

        Raises OutputExistsError where the name is taken, unless `replace`.
        """
        target = self.final if name is None else self.final.with_name(name)
        with speaking_errors(target):
            flush(self.path)
            if replace:
                os.replace(self.path, target)
            else:
                _move_without_replacing(self.path, target)
            flush(target.parent)
        self._let_go()
        return target

    def settle(self) -> None:
        """Bring what was written to the disk: done while it is read back, `publish` need not wait for it.

        Raises as that.
        """
        with speaking_errors(self.final):
            flush(self.path)

    def discard(self) -> None:
        """Remove the temporary file, if it is still there."""
        self.path.unlink(missing_ok=True)
        self._let_go()

    def _let_go(self) -> None:
        if self._held >= 0:
            os.close(self._held)
            self._held = -1
            is_gone(self.path)


@contextmanager
def speaking_errors(target: Path) -> Iterator[None]:
    """Turn what the system says while writing into an error of ours."""
    try:
        yield
    except FileExistsError as error:
        raise OutputExistsError(f"{target.name} is already there; nothing was written over it.") from error
    except soundfile.LibsndfileError as error:
        raise NoSpaceError(f"{target.name} could not be written to the end: {error.error_string}") from error
    except OSError as error:
        if error.errno in _FULL_CODES:
            raise NoSpaceError(f"No space is left to write {target.name}.") from error
        reason = (error.strerror or str(error)).lower()
        raise NoPermissionError(f"{target.name} cannot be written: {reason}.") from error


def flush(path: Path) -> None:
    """Bring a file, or the names in a folder, to the disk."""
    descriptor = os.open(path, os.O_RDONLY)
    try:
        os.fsync(descriptor)
    finally:
        os.close(descriptor)


def sweep_parts(folder: Path) -> int:
    """Remove temporary files that killed makers left in a folder; how many those were."""
    return sum(_remove_if_left(part) for part in folder.glob(".*.part"))


def _refuse_second_maker(final: Path) -> None:
    for part in final.parent.glob(f".{glob.escape(final.name)}.*.part"):
        if not _remove_if_left(part):
            raise OutputExistsError(f"{final.name} is being written by another command at this moment.")


def _remove_if_left(part: Path) -> bool:
    """Remove a temporary file whose maker is gone; False where it is at work."""
    try:
        descriptor = os.open(part, os.O_RDONLY | os.O_NOFOLLOW | os.O_NONBLOCK)
    except OSError as error:
        # A link is not followed, only taken away; what went meanwhile is gone.
        if error.errno == errno.ELOOP:
            part.unlink(missing_ok=True)
        return True
    try:
        fcntl.flock(descriptor, fcntl.LOCK_EX | fcntl.LOCK_NB)
        part.unlink(missing_ok=True)
    except BlockingIOError:
        return False
    except OSError:
        return True  # a file system without locks: each has a name of its own anyway
    finally:
        os.close(descriptor)
    return True


@contextmanager
def _folder_to_itself(folder: Path) -> Iterator[None]:
    """Nobody else of ours begins a file in this folder meanwhile; without effect where folders cannot be locked."""
    descriptor = os.open(folder, os.O_RDONLY)
    try:
        _lock(descriptor)
        yield
    finally:
        os.close(descriptor)


def _lock(descriptor: int) -> None:
    with suppress(OSError):
        fcntl.flock(descriptor, fcntl.LOCK_EX)


def _move_without_replacing(part: Path, target: Path) -> None:
    """Raises FileExistsError where the name is taken, also by a program that was quicker."""
    try:
        # A link, unlike a plain rename, fails where the name is taken.
        os.link(part, target, follow_symlinks=False)
        part.unlink()
        return
    except FileExistsError:
        raise
    except OSError as error:
        if error.errno not in _NO_LINKS_CODES:
            raise
    try:
        _rename_without_replacing(part, target)
    except FileExistsError:
        raise
    except OSError as error:
        if error.errno not in _NO_RENAME_CODES:
            raise
        _claim_and_replace(part, target)


def _rename_without_replacing(part: Path, target: Path) -> None:
    """renameat2(2) with RENAME_NOREPLACE, which Python does not have."""
    library = ctypes.CDLL(None, use_errno=True)
    if not hasattr(library, "renameat2"):
        raise OSError(errno.ENOSYS, os.strerror(errno.ENOSYS))
    paths = os.fsencode(part), os.fsencode(target)
    if library.renameat2(_AT_FDCWD, paths[0], _AT_FDCWD, paths[1], _RENAME_NOREPLACE):
        number = ctypes.get_errno()
        raise OSError(number, os.strerror(number), str(target))


def _claim_and_replace(part: Path, target: Path) -> None:
    """Where neither is known: whoever makes the empty file owns the name, and puts the whole one over it."""
    os.close(os.open(target, os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW))
    try:
        os.replace(part, target)
    except OSError:
        target.unlink(missing_ok=True)
        raise
