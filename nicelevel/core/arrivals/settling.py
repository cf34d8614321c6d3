"""When a file in a folder is whole: its size and time are still, and its header is satisfied.

Looked at again and again, which works on every file system, also where none tells of changes.
"""

import os
from collections.abc import Iterator
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path, PurePath

from ..errors import DamagedError, EmptyError, NiceLevelError, NotFoundError, TruncatedError
from ..files import take_in

PATIENCE = 10
"""A file that seems cut is waited for so many times as long as one that is whole."""

LEAST_LOOKS = 2
"""Between two looks no more than the settling time divided by this counts: a machine that was suspended, or had no
processor for a while, has not seen that a file did not grow, for whoever writes it may have stood still as well."""

IGNORED_ENDINGS = (".part", ".tmp", "~")

Mark = tuple[int, int, int]
"""Size, time of change in ns, number of the file: another one where it was written again or replaced."""


@dataclass(frozen=True)
class Arrival:
    """name: under the folder that it came into; why: what is wrong with it as far as its header tells, None where
    nothing is; is_copy: whether the path is that of a copy that was kept, to be worked on once more.
    """

    path: Path
    mark: Mark
    name: str
    why: NiceLevelError | None = None
    is_copy: bool = False

    @property
    def folder(self) -> Path:
        return self.path.parents[len(PurePath(self.name).parts) - 1]


@dataclass
class _Seen:
    mark: Mark
    still_s: float = 0.0
    why: NiceLevelError | None = None
    is_looked_at: bool = False


class Settling:
    """Told the time at each look, from a clock that is never set.

    marker: what the name of a file ends with that says that the one without that ending is whole; empty where none
    is waited for.
    """

    def __init__(self, folder: Path, settle_s: float, subfolders: bool = False, marker: str = "") -> None:
        self._folder, self._settle_s, self._subfolders, self._marker = folder, settle_s, subfolders, marker
        self._seen: dict[str, _Seen] = {}
        self._looked_s = 0.0

    def look(self, now_s: float, is_last: bool = False) -> list[Arrival]:
        """What is whole now, or will not become it, the oldest first; each is told at every look.

        is_last: nobody waits any longer for what is still but cut. Raises NotFoundError where the folder is away.
        """
        try:
            present = dict(_files_in(self._folder, self._subfolders))
        except OSError as error:
            reason = (error.strerror or str(error)).lower()
            raise NotFoundError(f"{self._folder} cannot be looked into: {reason}.") from error
        if self._marker:
            present = _marked(present, self._marker)
        passed_s = min(now_s - self._looked_s, self._settle_s / LEAST_LOOKS)
        self._looked_s = now_s
        self._seen = {name: seen for name, seen in self._seen.items() if name in present}
        for name, mark in present.items():
            seen = self._seen.get(name)
            if seen is None or seen.mark != mark:
                self._seen[name] = _Seen(mark)
            else:
                seen.still_s += passed_s
        ready = [
            Arrival(self._folder / name, seen.mark, name, seen.why)
            for name, seen in self._seen.items()
            if self._is_ready(self._folder / name, seen, is_last)
        ]
        return sorted(ready, key=lambda arrival: (arrival.mark[1], arrival.name))

    def present(self) -> set[str]:
        """The names of what was there at the last look."""
        return set(self._seen)

    def growing(self) -> dict[str, Mark]:
        """What is there and was not still for long enough at the last look, or seems cut: by its name."""
        return {name: seen.mark for name, seen in self._seen.items() if not seen.is_looked_at or seen.why is not None}

    def waits_for(self, handled: set[str]) -> bool:
        """Whether anything but what was handled is there and has not settled."""
        return any(name not in handled for name in self._seen)

    def _is_ready(self, path: Path, seen: _Seen, is_last: bool) -> bool:
        if seen.still_s < self._settle_s:
            return False
        if not seen.is_looked_at or _is_unfinished(seen.why):
            seen.why, seen.is_looked_at = _what_is_wrong(path), True
        return not _is_unfinished(seen.why) or is_last or seen.still_s >= PATIENCE * self._settle_s


def _marked(present: dict[str, Mark], marker: str) -> dict[str, Mark]:
    """Files whose marker is there: named like them with the ending behind, or in the place of their own."""
    files = {name: mark for name, mark in present.items() if not name.endswith(marker)}
    return {
        name: mark
        for name, mark in files.items()
        if f"{name}{marker}" in present or f"{name.rpartition('.')[0]}{marker}" in present
    }


def _files_in(folder: Path, subfolders: bool, under: str = "") -> Iterator[tuple[str, Mark]]:
    """Raises OSError where the folder cannot be read."""
    with os.scandir(folder) as entries:
        for entry in entries:
            with suppress(FileNotFoundError):
                if is_ignored(entry.name):
                    continue
                if entry.is_file():
                    told = entry.stat()
                    yield under + entry.name, (told.st_size, told.st_mtime_ns, told.st_ino)
                elif subfolders and entry.is_dir(follow_symlinks=False):
                    yield from _files_in(folder / entry.name, True, f"{under}{entry.name}/")


def is_ignored(name: str) -> bool:
    """Whether a name says that the file is not for us, or not yet."""
    return name.startswith(".") or name.endswith(IGNORED_ENDINGS)


def mark_of(path: Path) -> Mark | None:
    """None where it has gone."""
    try:
        told = path.stat()
    except OSError:
        return None
    return told.st_size, told.st_mtime_ns, told.st_ino


def _what_is_wrong(path: Path) -> NiceLevelError | None:
    try:
        take_in(path).close()
    except NiceLevelError as error:
        return error
    return None


def _is_unfinished(why: NiceLevelError | None) -> bool:
    """What a slow writer's file looks like on its way."""
    return isinstance(why, (TruncatedError, EmptyError, DamagedError))
