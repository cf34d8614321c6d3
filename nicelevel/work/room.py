"""What takes room on the disk, what of it may go, and when it goes by itself."""

from collections.abc import Iterator
from dataclasses import dataclass
from datetime import timedelta
from pathlib import Path

from nicelevel.config import Config
from nicelevel.core.words import counted
from nicelevel.desk.hearing import HEARD_COPY
from nicelevel.store.audio import AudioFolder, size_of, size_of_file
from nicelevel.store.backups import snapshots, taken_at
from nicelevel.store.models import Preparing, Source
from nicelevel.store.trash import first_in_trash, trash

from .keeping import UPLOAD_KEPT_S


@dataclass(frozen=True)
class Taken:
    """One kind of what is kept. goes: when it goes by itself, in words; key: by which it may be let go at once."""

    name: str
    holds: str
    size_bytes: int
    goes: str
    key: str = ""


def taken_room(config: Config) -> list[Taken]:
    """All kinds, in the order in which they matter. Walks through the folders: of many files it takes a while."""
    audio = AudioFolder(config.audio_folder)
    prepared = {each.digest for each in Preparing.select(Preparing.digest)}
    prepared_bytes = sum(size_of(audio.hops_folder(each).parent) for each in prepared)
    copied_bytes = {each: sum(size_of_file(path) for path in copies_in(each)) for each in _with_copies(config)}
    audio_bytes, made_bytes = (size_of(each) - copied_bytes[each] for each in _with_copies(config))
    sources = Source.select().where(Source.trashed_at.is_null()).count()
    return [
        Taken(
            "Sources, and what was measured of them",
            counted(sources, "source"),
            max(0, audio_bytes - prepared_bytes),
            "when they are taken out and the trash is emptied",
        ),
        Taken("Deliverables", "every file that was written", made_bytes, "with their sources, or when rendered anew"),
        Taken(
            "What was measured of prepared signals",
            counted(len(prepared), "signal"),
            prepared_bytes,
            "when no source and no destination asks for it; it is made again where one does",
        ),
        Taken(
            "Copies for hearing",
            "of what cannot be read from anywhere but its start",
            sum(copied_bytes.values()),
            "when you let go of them; each is made again when it is heard",
            key="copies",
        ),
        _in_trash(config),
        Taken(
            "Uploads that broke off",
            counted(_files_in(config.uploads_folder), "file"),
            size_of(config.uploads_folder),
            f"after {round(UPLOAD_KEPT_S / 86400)} days without the rest",
        ),
        Taken(
            "What came through lines",
            counted(_files_in(config.arrivals_folder), "arrival"),
            size_of(config.arrivals_folder),
            f"{config.arrival_days} days after it came",
        ),
        *_backups(config),
    ]


def _in_trash(config: Config) -> Taken:
    found, first = trash(), first_in_trash()
    goes = f"{config.trash_days} days after it was taken out"
    if first:
        goes += f"; the first on {first.astimezone() + timedelta(days=config.trash_days):%-d %B}"
    holds = ", ".join(
        counted(number, noun)
        for number, noun in ((found.jobs, "job"), (found.sources, "source"), (found.destinations, "destination"))
        if number
    )
    return Taken("The trash", holds or "nothing", found.size_bytes, goes, key="trash" if holds else "")


def _backups(config: Config) -> Iterator[Taken]:
    if config.backup_folder:
        into = Path(config.backup_folder)
        there = snapshots(into)
        latest = f", the last on {taken_at(there[-1]).astimezone():%-d %B, %H:%M}" if there else ""
        holds = f"{counted(len(there), 'backup')}{latest}"
        goes = f"{config.backup_days} days after each was taken; the last three stay"
        yield Taken("Backups", holds, size_of(into), goes)


def _with_copies(config: Config) -> tuple[Path, Path]:
    return config.audio_folder, config.deliverables_folder


def copies_in(folder: Path) -> Iterator[Path]:
    """Every copy that was made to be heard."""
    return folder.rglob(HEARD_COPY)


def free_copies(config: Config) -> int:
    """Let go of all of them; how many bytes that frees. Who hears one just now has it open, and goes on."""
    freed_bytes = 0
    for folder in _with_copies(config):
        for path in list(copies_in(folder)):
            freed_bytes += size_of_file(path)
            path.unlink(missing_ok=True)
    return freed_bytes


def _files_in(folder: Path) -> int:
    return sum(not each.name.startswith(".") for each in folder.iterdir()) if folder.is_dir() else 0
