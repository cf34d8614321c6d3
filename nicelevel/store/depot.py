"""Object storage behind the data folder, where there is one: then that folder is a cache, which may be lost.

What is kept for good (audio under its digest, what was measured of it, deliverables, what came through lines) is put
there under its path below the data folder before any row speaks of it, and brought back when it is asked for. Without
object storage all of this does nothing, and several machines share the folder itself.
"""

import fcntl
import logging
import os
import secrets
import threading
import time
from collections.abc import Callable, Iterator
from concurrent.futures import Future, ThreadPoolExecutor
from contextlib import suppress
from pathlib import Path
from typing import Any, TypeVar

from nicelevel.config import Config
from nicelevel.core.digest import sha256_of
from nicelevel.core.errors import NiceLevelError
from nicelevel.core.files.staged import speaking_errors

T = TypeVar("T")
logger = logging.getLogger("nicelevel.store")

AGAIN_S = 1.0
ANSWERS_WITHIN_S, ASKED_EVERY_S = 5.0, 2.0
"""How long it may take to say that it is there, and for how long that is believed."""

BACK_WITHIN_S = 1.0
"""The same of one that was away a moment ago."""

LEAST_SILENCE_S, MOST_SILENCE_S = 10.0, 30.0
"""What a storage may take for an answer (`patient_s3`): the least holds for web servers, where somebody waits for a
page, the most for workers."""

YOUNG_S = 3600.0
"""What was changed or used so lately is not let go of: it may be coming in, or somebody may be about to open it."""

LOOKED_AT_AFTER_BYTES = 1 << 30
"""After so much has come into the cache it is looked at whether it is too large."""

_NOT_THERE = (FileNotFoundError,)


class DepotAwayError(NiceLevelError):
    """Object storage does not answer."""

    code = "storage_away"


AWAY = "The object storage does not answer. What is under way goes on when it does; nothing is lost."


class _Depot:
    """One object storage. May be used from many threads."""

    def __init__(self, config: Config, patience_s: float) -> None:
        self._config, self._patience_s = config, patience_s
        self.folder = config.data_folder
        self._system: Any = None
        self._root = ""
        self._lock = threading.Lock()
        self._come_bytes = 0
        self._asker = ThreadPoolExecutor(1, "asking-storage")
        self._asking: Future[bool] | None = None
        self._asked_s = 0.0
        self._was_away = False

    def key(self, path: Path) -> str:
        return f"{self._root}/{path.relative_to(self.folder)}"

    def system(self) -> Any:
        """The file system, opened with the first who asks."""
        with self._lock:
            if self._system is None:
                self._system, root = self._open()
                self._root = root.rstrip("/")
            return self._system

    def _open(self) -> tuple[Any, str]:
        """The file system and what of the address is a path in it. They are not loaded where nobody wants one."""
        address, endpoint = self._config.object_storage, self._config.object_storage_endpoint
        if address.startswith("s3:"):
            from .patient_s3 import PatientS3

            silence_s = min(max(LEAST_SILENCE_S, self._patience_s), MOST_SILENCE_S)
            return PatientS3(silence_s, endpoint), PatientS3._strip_protocol(address)
        import fsspec

        system, root = fsspec.url_to_fs(address)
        return system, root

    def surely(self, do: Callable[[Any], T]) -> T:
        """What an action gives, tried again while the storage is away. Raises DepotAwayError after that."""
        if self._is_still_away():
            raise DepotAwayError(AWAY)
        end_s = time.monotonic() + self._patience_s
        while True:
            try:
                return do(self.system())
            except (*_NOT_THERE, NiceLevelError):
                raise
            except Exception as error:
                # Which exceptions say so hangs on the storage; what is broken for good is said at the end too.
                logger.warning("object storage: %s", error)
                if time.monotonic() >= end_s:
                    self._was_away = True
                    raise DepotAwayError(AWAY) from error
                time.sleep(AGAIN_S)

    def _is_still_away(self) -> bool:
        """Where somebody waits for a page, nobody waits once more for what was waited for in vain a moment ago: each
        would hold a thread of the server, until none is left for what needs no storage.
        """
        return self._was_away and self._patience_s < LEAST_SILENCE_S and not self.answers(BACK_WITHIN_S)

    def answers(self, within_s: float = ANSWERS_WITHIN_S) -> bool:
        """Whether it does within a few seconds. One asks, for all who want to know: what hangs is asked nothing more
        meanwhile, and nobody waits for it who comes later."""
        now_s = time.monotonic()
        with self._lock:
            if self._asking is None or (self._asking.done() and now_s - self._asked_s > ASKED_EVERY_S):
                self._asking, self._asked_s = self._asker.submit(self._ask), now_s
            asking, left_s = self._asking, self._asked_s + within_s - now_s
        try:
            return asking.result(max(0.0, left_s))
        except TimeoutError:
            return False

    def _ask(self) -> bool:
        try:
            self.system().exists(self._root or "/")
        except Exception:
            return False
        self._was_away = False
        return True

    def came(self, size_bytes: int) -> None:
        """Count what has come into the cache, and make room where that is too much."""
        with self._lock:
            self._come_bytes += size_bytes
            is_much = self._come_bytes >= LOOKED_AT_AFTER_BYTES
            self._come_bytes = 0 if is_much else self._come_bytes
        if is_much:
            make_room(self._config)


_depot: list[_Depot] = []


def open_depot(config: Config, patience_s: float) -> None:
    """Say which object storage is meant, none where there is none. patience_s: how long it may be away."""
    _depot[:] = [_Depot(config, patience_s)] if config.object_storage else []


def depot_answers() -> bool:
    """Whether the object storage can be reached; so it is where there is none."""
    return not _depot or _depot[0].answers()


def keep(path: Path) -> None:
    """Put a file there, whole or not at all. Raises DepotAwayError."""
    if not _depot:
        return
    there, size_bytes = _depot[0], path.stat().st_size

    def put(system: Any) -> None:
        system.put_file(str(path), there.key(path))
        if system.size(there.key(path)) != size_bytes:
            raise OSError(f"{path.name} did not come whole")

    there.surely(put)
    there.came(size_bytes)


def keep_all(folder: Path) -> None:
    """The same for every file of a folder."""
    if _depot:
        for path in sorted(each for each in folder.rglob("*") if each.is_file() and not each.name.startswith(".")):
            keep(path)


def bring(path: Path) -> Path:
    """Have a file here that is kept there; it may be neither here nor there. Raises DepotAwayError, NoSpaceError."""
    if not _depot or not path.is_relative_to(_depot[0].folder):
        return path
    if path.exists():
        _touch(path)
        return path
    there = _depot[0]
    part = path.with_name(f".{path.name}.{secrets.token_hex(6)}.part")
    if size_there(path) is None:
        return path
    try:
        with speaking_errors(path):
            path.parent.mkdir(parents=True, exist_ok=True)
            with part.open("xb") as held:
                fcntl.flock(held, fcntl.LOCK_EX)  # what sweeps meanwhile sees that its maker is at work
                there.surely(lambda system: system.get_file(there.key(path), str(part)))
                if path.name == "audio" and sha256_of(part) != path.parent.name:
                    raise DepotAwayError(f"{path.parent.name[:12]}… did not come whole from the object storage.")
                os.replace(part, path)
        there.came(path.stat().st_size)
    finally:
        part.unlink(missing_ok=True)
    return path


def bring_all(folder: Path) -> None:
    """Have all files of a folder here."""
    if _depot:
        for name in names_in(folder):
            bring(folder / name)


def names_in(folder: Path) -> list[str]:
    """Of what is kept of a folder there, the names below it."""
    if not _depot:
        return []
    start = _depot[0].key(folder)
    with suppress(*_NOT_THERE):
        return sorted(each.removeprefix(f"{start}/") for each in _depot[0].surely(lambda system: system.find(start)))
    return []


def size_there(path: Path) -> int | None:
    """Bytes of a file that is kept, here or there; None where it is neither."""
    if path.is_file():
        return path.stat().st_size
    if not _depot:
        return None
    there = _depot[0]
    try:
        return int(there.surely(lambda system: system.size(there.key(path))))
    except _NOT_THERE:
        return None


def old_there(folder: Path, depth: int) -> list[tuple[str, ...]]:
    """The places so deep below a folder there in which nothing has changed lately, each as the parts of its name."""
    if not _depot:
        return []
    start, found = _depot[0].key(folder), {}
    with suppress(*_NOT_THERE):
        found = _depot[0].surely(lambda system: system.find(start, detail=True))
    newest: dict[tuple[str, ...], float] = {}
    for name, told in found.items():
        place = tuple(name.removeprefix(f"{start}/").split("/")[:depth])
        newest[place] = max(newest.get(place, 0.0), told["LastModified"].timestamp())
    return [place for place, at_s in newest.items() if len(place) == depth and time.time() - at_s > YOUNG_S]


def drop(folder: Path) -> None:
    """Let go of all that is kept of a folder there."""
    if not _depot:
        return
    key = _depot[0].key(folder)

    def remove(system: Any) -> None:
        system.rm(key, recursive=True)

    with suppress(*_NOT_THERE):
        _depot[0].surely(remove)


def make_room(config: Config) -> int:
    """Let go here of what was not used for longest, and is there, until the cache is as small as it is to be."""
    if not config.object_storage:
        return 0
    files = sorted(_cached(config), key=lambda told: told[0])
    total_bytes, freed_bytes = sum(size for _, size, _ in files), 0
    for used_s, size_bytes, path in files:
        if total_bytes - freed_bytes <= config.cache_bytes or time.time() - used_s < YOUNG_S:
            break
        if _is_there(path, size_bytes):
            path.unlink(missing_ok=True)
            freed_bytes += size_bytes
    return freed_bytes


def _is_there(path: Path, size_bytes: int) -> bool:
    there = _depot[0]
    try:
        return bool(there.surely(lambda system: system.size(there.key(path))) == size_bytes)
    except (*_NOT_THERE, DepotAwayError):
        return False


def _cached(config: Config) -> Iterator[tuple[float, int, Path]]:
    """Every whole file of the cache: when it was used last, its size."""
    for folder in (config.audio_folder, config.deliverables_folder, config.arrivals_folder):
        for place, folders, names in os.walk(folder):
            folders[:] = [each for each in folders if not each.startswith(".")]
            for name in names:
                path = Path(place, name)
                if not name.startswith("."):
                    try:
                        state = path.stat()
                    except FileNotFoundError:
                        continue
                    yield max(state.st_mtime, state.st_atime), state.st_size, path


def _touch(path: Path) -> None:
    """Keep that a file was used, now and then: the system may not."""
    try:
        state = path.stat()
        if time.time() - state.st_atime > YOUNG_S / 4:
            os.utime(path, ns=(time.time_ns(), state.st_mtime_ns))
    except OSError:
        pass  # it belongs to somebody else, or has just gone
