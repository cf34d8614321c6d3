"""Backups that are taken by themselves: each a whole state, of which only what is new is written.

A folder of backups holds `objects/`, every file once under the SHA-256 of its contents, and one folder for each
backup, named by its time, with the database as PostgreSQL dumps it and a list of files and digests. A backup has its
name only once all of it was read back and is right.
"""

import fcntl
import hashlib
import json
import os
import shutil
from collections.abc import Iterator, Mapping
from contextlib import contextmanager, suppress
from dataclasses import asdict, dataclass
from datetime import UTC, datetime, timedelta
from pathlib import Path

from nicelevel.config import Config
from nicelevel.core.digest import sha256_of
from nicelevel.core.errors import DamagedError
from nicelevel.core.files.staged import flush, speaking_errors
from nicelevel.store.backups import LIST, TIME_FORMAT, say_checked, snapshots, taken_at

from .backup import DUMP, BackupError, Tell, about_now, dump_database, files_kept, load_database, refuse_foreign
from .folder_lock import folder_lock
from .reach import reached_database

OBJECTS, LOCK = "objects", "backups.lock"
FEWEST_KEPT = 3
"""So many stay, however old they are."""

PIECE_BYTES = 1 << 20


@dataclass(frozen=True)
class KeptFile:
    """One file: where it stood below the data folder, and what it held. modified_ns: when it was changed last."""

    path: str
    sha256: str
    size_bytes: int
    modified_ns: int


@dataclass(frozen=True)
class Taken:
    """A backup that was taken: its folder, how many files it has, how many of them had to be written, their bytes."""

    folder: Path
    files: int
    fresh: int
    fresh_bytes: int


def take_snapshot(config: Config, into: Path, tell: Tell) -> Taken:
    """Take a backup, also while Nice Level runs; what was kept by an earlier one is not written again.

    Raises BackupError where another is being taken, NoSpaceError, NoPermissionError.
    """
    with speaking_errors(into), _to_ourselves(into):
        _sweep(into)
        before = _latest_files(into)
        name = datetime.now(UTC).strftime(TIME_FORMAT)
        part = into / f".{name}.part"
        part.mkdir()
        with reached_database(config) as url:
            dump_database(url, part / DUMP)
            about = about_now()
        kept, fresh, fresh_bytes = _keep_files(config.data_folder, into, before, tell)
        flush(part / DUMP)
        told = {**about, "dump_sha256": sha256_of(part / DUMP), "files": [asdict(each) for each in kept]}
        (part / LIST).write_text(json.dumps(told, indent=1))
        flush(part / LIST)
        flush(part)
        os.replace(part, into / name)
        flush(into)
    return Taken(into / name, len(kept), fresh, fresh_bytes)


def _keep_files(
    folder: Path, into: Path, before: Mapping[str, KeptFile], tell: Tell
) -> tuple[list[KeptFile], int, int]:
    files = list(files_kept(folder))
    total_bytes, done_bytes, fresh, fresh_bytes = sum(size for _, size in files), 0, 0, 0
    kept = []
    for path, size_bytes in files:
        with suppress(FileNotFoundError):  # removed meanwhile
            each, is_fresh = _keep(path, str(path.relative_to(folder)), into, before)
            kept.append(each)
            fresh += is_fresh
            fresh_bytes += each.size_bytes if is_fresh else 0
        done_bytes += size_bytes
        tell(done_bytes, total_bytes)
    return kept, fresh, fresh_bytes


def _keep(path: Path, name: str, into: Path, before: Mapping[str, KeptFile]) -> tuple[KeptFile, bool]:
    """A file among the objects, and whether it had to be put there."""
    state, known = path.stat(), before.get(name)
    is_known = known and (known.size_bytes, known.modified_ns) == (state.st_size, state.st_mtime_ns)
    if known and is_known and _is_whole(_object(into, known.sha256), known.size_bytes):
        return known, False
    digest, size_bytes, is_fresh = _put(path, into)
    return KeptFile(name, digest, size_bytes, state.st_mtime_ns), is_fresh


def _put(path: Path, into: Path) -> tuple[str, int, bool]:
    """Copy a file to where its digest says, and read back what was written before it has its name."""
    objects = into / OBJECTS
    objects.mkdir(exist_ok=True)
    part, hashed, size_bytes = objects / f".{os.getpid()}.part", hashlib.sha256(), 0
    with path.open("rb") as source, part.open("wb") as target:
        while piece := source.read(PIECE_BYTES):
            hashed.update(piece)
            target.write(piece)
            size_bytes += len(piece)
    digest = hashed.hexdigest()
    place = _object(into, digest)
    if _is_whole(place, size_bytes):
        part.unlink()
        return digest, size_bytes, False
    flush(part)
    _forget_cached(part)
    if sha256_of(part) != digest:
        raise DamagedError(f"{path.name} did not come whole onto the disk of the backups: that disk may be failing.")
    place.parent.mkdir(exist_ok=True)
    part.chmod(0o444)
    os.replace(part, place)
    flush(place.parent)
    return digest, size_bytes, True


def _forget_cached(path: Path) -> None:
    """What is read of it next comes from the disk, as far as the system allows."""
    descriptor = os.open(path, os.O_RDONLY)
    try:
        os.posix_fadvise(descriptor, 0, 0, os.POSIX_FADV_DONTNEED)
    finally:
        os.close(descriptor)


def _object(into: Path, digest: str) -> Path:
    return into / OBJECTS / digest[:2] / digest


def _is_whole(place: Path, size_bytes: int) -> bool:
    """By its length: the rest is what `verify_snapshot` is for."""
    with suppress(OSError):
        return place.stat().st_size == size_bytes
    return False


def verify_snapshot(snapshot: Path, tell: Tell) -> list[str]:
    """Read all that a backup needs, each byte; what is missing or damaged, in sentences, which are kept too."""
    told = _told(snapshot)
    files = {each.sha256: each for each in _files_of(told)}
    total_bytes, done_bytes, wrong = sum(each.size_bytes for each in files.values()), 0, []
    if sha256_of(snapshot / DUMP) != told["dump_sha256"]:
        wrong.append("The database in it is damaged.")
    for digest, each in files.items():
        place = _object(snapshot.parent, digest)
        if not place.is_file():
            wrong.append(f"{each.path} is missing.")
        elif sha256_of(place) != digest:
            wrong.append(f"{each.path} is damaged.")
        done_bytes += each.size_bytes
        tell(done_bytes, total_bytes)
    say_checked(snapshot.parent, wrong)
    return wrong


def restore_snapshot(config: Config, snapshot: Path, tell: Tell) -> int:
    """Fill an empty data folder from a backup; how many files that were.

    Raises BackupError where the folder is not empty or this is no backup, DamagedError where something is not as it
    was.
    """
    told = _told(snapshot)
    refuse_foreign(told)
    with folder_lock(config.data_folder):
        files = list(_files_of(told))
        total_bytes, done_bytes = sum(each.size_bytes for each in files), 0
        with load_database(config, snapshot / DUMP):
            for each in files:
                _bring_back(each, snapshot.parent, config.data_folder)
                done_bytes += each.size_bytes
                tell(done_bytes, total_bytes)
    return len(files)


def _bring_back(file: KeptFile, into: Path, folder: Path) -> None:
    target = (folder / file.path).resolve()
    if not target.is_relative_to(folder.resolve()):
        raise DamagedError(f"This is no backup: {file.path} would lie outside of the data folder.")
    target.parent.mkdir(parents=True, exist_ok=True)
    with speaking_errors(target):
        try:
            shutil.copyfile(_object(into, file.sha256), target)
        except FileNotFoundError as error:
            raise DamagedError(f"{file.path} is missing from the backup.") from error
    if sha256_of(target) != file.sha256:
        raise DamagedError(f"{file.path} is damaged in the backup.")
    os.utime(target, ns=(file.modified_ns, file.modified_ns))
    if file.path.startswith("secrets/"):
        target.chmod(0o600)


def expire_snapshots(into: Path, kept_for: timedelta) -> tuple[list[Path], int]:
    """Delete what is older, but for the last few, and then what no backup needs; which, and bytes that frees."""
    with _to_ourselves(into):
        there = snapshots(into)
        oldest = datetime.now(UTC) - kept_for
        old = [each for each in there[:-FEWEST_KEPT] if taken_at(each) < oldest]
        for each in old:
            # Its name goes first: what is half deleted is no backup.
            gone = into / f".{each.name}.gone"
            os.replace(each, gone)
            shutil.rmtree(gone)
        needed = {file.sha256 for each in snapshots(into) for file in _files_of(_told(each))}
        freed_bytes = 0
        for place in (into / OBJECTS).glob("??/*"):
            if place.name not in needed:
                freed_bytes += place.stat().st_size
                place.unlink()
        return old, freed_bytes


def _latest_files(into: Path) -> dict[str, KeptFile]:
    there = snapshots(into)
    return {each.path: each for each in _files_of(_told(there[-1]))} if there else {}


def _told(snapshot: Path) -> dict[str, object]:
    try:
        told = json.loads((snapshot / LIST).read_text())
    except (OSError, ValueError) as error:
        raise BackupError(f"{snapshot} is no backup of Nice Level.") from error
    if not isinstance(told, dict) or not isinstance(told.get("files"), list):
        raise BackupError(f"{snapshot} is no backup of Nice Level.")
    return told


def _files_of(told: Mapping[str, object]) -> Iterator[KeptFile]:
    files = told["files"]
    assert isinstance(files, list)
    return (KeptFile(**each) for each in files)


def _sweep(into: Path) -> None:
    """Remove what a backup that was killed has left; objects that it wrote are found again."""
    for left in (*into.glob(".*.part"), *into.glob(".*.gone")):
        shutil.rmtree(left, ignore_errors=True)
    for left in (into / OBJECTS).glob(".*.part"):
        left.unlink(missing_ok=True)


@contextmanager
def _to_ourselves(into: Path) -> Iterator[None]:
    """One at a time. Raises BackupError."""
    into.mkdir(parents=True, exist_ok=True, mode=0o700)
    descriptor = os.open(into / LOCK, os.O_RDWR | os.O_CREAT | os.O_CLOEXEC, 0o600)
    try:
        try:
            fcntl.flock(descriptor, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except BlockingIOError as error:
            raise BackupError(f"Another backup into {into} is under way.") from error
        yield
    finally:
        os.close(descriptor)
