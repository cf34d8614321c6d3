"""Backing up and restoring: one tar of the database, as PostgreSQL dumps it, and of all files beside it.

A dump can be loaded by any later major version of PostgreSQL, so this is also the way from one to the next.
"""

import io
import json
import os
import subprocess
import tarfile
import tempfile
from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager, suppress
from datetime import UTC, datetime
from pathlib import Path
from typing import Any, BinaryIO

from nicelevel.config import Config
from nicelevel.core.errors import DamagedError, NiceLevelError, OutputExistsError
from nicelevel.core.files import StagedFile
from nicelevel.core.files.staged import speaking_errors
from nicelevel.store.database import connected, known_migrations, newest_migration

from .cluster import Cluster, newest_program
from .folder_lock import folder_lock
from .reach import reached_database

ABOUT, DUMP = "nice-level-backup.json", "database.dump"
VERSION = 1
FOLDERS = ("audio", "deliverables", "arrivals")
SIGNING = "secrets/session"

Tell = Callable[[int, int], None]
"""Is told how many bytes are done, and of how many."""


class BackupError(NiceLevelError):
    """A backup cannot be made or used."""

    code = "backup"


def back_up(config: Config, target: Path, tell: Tell) -> int:
    """Write a backup of a data folder, also while Nice Level runs over it; how many files are in it.

    What is begun after the database was dumped is not in it; what is removed meanwhile may be missing, and is found
    by `verify` after restoring. Raises OutputExistsError where the target is there, NoSpaceError, BackupError.
    """
    if target.exists():
        raise OutputExistsError(f"{target} is already there; nothing was written over it.")
    with reached_database(config) as url, tempfile.TemporaryDirectory() as folder:
        dump = Path(folder) / DUMP
        dump_database(url, dump)
        staged = StagedFile(target)
        try:
            with speaking_errors(target), tarfile.open(staged.path, "w") as archive:
                _add(archive, ABOUT, json.dumps(about_now(), indent=1).encode())
                archive.add(dump, DUMP)
                count = _add_files(archive, config.data_folder, tell)
            staged.publish()
        finally:
            staged.discard()
    return count


def dump_database(url: str, target: Path) -> None:
    """The database as PostgreSQL dumps it. Raises BackupError."""
    _run([str(newest_program("pg_dump")), "--format=custom", "--no-owner", f"--file={target}", url])


def about_now() -> dict[str, Any]:
    """What a backup says of itself."""
    with connected():
        return {
            "backup": VERSION,
            "made_at": datetime.now(UTC).isoformat(timespec="seconds"),
            "schema": newest_migration(),
        }


def _add(archive: tarfile.TarFile, name: str, contents: bytes) -> None:
    entry = tarfile.TarInfo(name)
    entry.size = len(contents)
    archive.addfile(entry, io.BytesIO(contents))


def _add_files(archive: tarfile.TarFile, folder: Path, tell: Tell) -> int:
    files = list(files_kept(folder))
    total_bytes, done_bytes, count = sum(size for _, size in files), 0, 0
    for path, size_bytes in files:
        with suppress(FileNotFoundError):  # removed meanwhile
            archive.add(path, str(path.relative_to(folder)))
            count += 1
        done_bytes += size_bytes
        tell(done_bytes, total_bytes)
    return count


def files_kept(folder: Path) -> Iterator[tuple[Path, int]]:
    """All that is kept, with its size, without what is being made at this moment.

    With it what signs the links of clients: they go on after a restore.
    """
    with suppress(FileNotFoundError):
        yield folder / SIGNING, (folder / SIGNING).stat().st_size
    for name in FOLDERS:
        for place, folders, names in os.walk(folder / name):
            folders[:] = [each for each in folders if not each.startswith(".")]
            for each in sorted(names):
                path = Path(place, each)
                if not each.startswith("."):
                    with suppress(FileNotFoundError):
                        yield path, path.stat().st_size


def restore(config: Config, source: Path, tell: Tell) -> int:
    """Fill an empty data folder from a backup; how many files that were.

    Raises BackupError where the folder is not empty or the file no backup, DamagedError where it broke off.
    """
    with folder_lock(config.data_folder):
        try:
            with source.open("rb") as file, tarfile.open(fileobj=file) as archive:
                return _restore_from(archive, file, config, tell)
        except (tarfile.TarError, EOFError) as error:
            raise DamagedError(f"{source.name} is no backup, or it broke off: {error}.") from error


def _restore_from(archive: tarfile.TarFile, file: BinaryIO, config: Config, tell: Tell) -> int:
    first = archive.next()
    told = archive.extractfile(first) if first and first.name == ABOUT else None
    refuse_foreign(json.loads(told.read()) if told else {})
    dump = archive.next()
    if dump is None or dump.name != DUMP:
        raise BackupError("There is no database in this backup.")
    total_bytes, count = os.fstat(file.fileno()).st_size, 0
    with tempfile.TemporaryDirectory() as folder:
        archive.extract(dump, folder, filter="data")
        with load_database(config, Path(folder) / DUMP):
            while entry := archive.next():
                archive.extract(entry, config.data_folder, filter="data")
                count += 1
                tell(file.tell(), total_bytes)
    return count


@contextmanager
def load_database(config: Config, dump: Path) -> Iterator[None]:
    """Once the block has put all files into an empty data folder, give it its database.

    Raises BackupError where the folder is not empty.
    """
    if config.database_url:
        raise BackupError("NICE_LEVEL_DATABASE_URL: a backup is restored into a data folder with its own database.")
    if any((config.data_folder / name).exists() for name in ("postgres", *FOLDERS)):
        raise BackupError(f"{config.data_folder} is not empty; name a new folder with NICE_LEVEL_DATA_FOLDER.")
    yield
    cluster = Cluster(config.data_folder / "postgres", config.secret("database"))
    try:
        cluster.start()
        _run([str(newest_program("pg_restore")), "--no-owner", f"--dbname={cluster.url}", str(dump)])
    finally:
        cluster.stop()


def refuse_foreign(about: Mapping[str, Any]) -> None:
    """Raises BackupError where a backup says that another program, or a newer version, made it."""
    if about.get("backup") != VERSION:
        raise BackupError("This is no backup that this version of Nice Level knows.")
    if about["schema"] not in known_migrations():
        raise BackupError(f"This backup was made by a newer version of Nice Level ({about['schema']}).")


def _run(command: list[str]) -> None:
    done = subprocess.run(command, capture_output=True, text=True)
    if done.returncode:
        last = [*done.stderr.strip().splitlines(), "no reason is given"][0]
        raise BackupError(f"{Path(command[0]).name}: {last}")
