"""Rows, queue and files held against each other: what is missing is said, what nobody needs is removed."""

import shutil
import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from datetime import timedelta
from functools import partial
from pathlib import Path

from nicelevel.config import Config
from nicelevel.core.clock import clock_of
from nicelevel.core.digest import sha256_of
from nicelevel.core.files.beside import files_of, is_beside
from nicelevel.core.files.staged import sweep_parts
from nicelevel.store.arrivals import forget_files, ids_of_arrivals, kept_files_before
from nicelevel.store.audio import AUDIO_LOST, AudioFolder, free_folder
from nicelevel.store.deliverables import (
    FILE_CHANGED,
    FILE_LOST,
    KEPT_FILES,
    UNFINISHED,
    file_of,
    home_of,
    lose_deliverable,
    with_names,
)
from nicelevel.store.depot import YOUNG_S, bring, drop, old_there, size_there
from nicelevel.store.found import forget_found
from nicelevel.store.models import Deliverable, Job, Preparing, Reading, Source
from nicelevel.store.readings import is_measured
from nicelevel.store.sides import forget_sides, needed_as_sides, sides_of
from nicelevel.store.sources import end_source
from nicelevel.store.trash import empty_trash

from .enqueue import measure_again
from .reconcile import requeue_forgotten

UPLOAD_KEPT_S = 7 * 24 * 3600.0
"""What has come of an upload waits so long for the rest."""

AUDIO_CHANGED = "Its audio is damaged in the data folder. Let the same file go here once more and it is mended."

Tell = Callable[[int, int], None]
"""Is told how many bytes are checked, and of how many."""


@dataclass(frozen=True)
class Missing:
    """Something that is not there, or not as it was: of which job, what, and the sentence that its row now has."""

    job: str
    name: str
    sentence: str


def reconcile(config: Config, job_id: int | None = None, tell: Tell | None = None) -> list[Missing]:
    """Hold rows and queue against the files; what is missing is said on its row.

    tell: given, every byte of sources and deliverables is read and held against its checksum; else lengths alone.
    """
    work = [*_sources(config, job_id), *_deliverables(config, job_id)]
    total_bytes, done_bytes, found = sum(each.size_bytes for each in work), 0, []
    for each in work:
        if missing := each.check(tell is not None):
            found.append(missing)
        done_bytes += each.size_bytes
        if tell:
            tell(done_bytes, total_bytes)
    requeue_forgotten()
    return found


@dataclass(frozen=True)
class _Check:
    size_bytes: int
    check: Callable[[bool], Missing | None]


def _sources(config: Config, job_id: int | None) -> Iterator[_Check]:
    audio = AudioFolder(config.audio_folder)
    query = Source.select(Source, Job).join(Job).where(Source.state.in_(("measured", "failed")))
    for source in query if job_id is None else query.where(Source.job == job_id):
        yield _Check(source.size_bytes, partial(_check_source, source, audio))


def _check_source(source: Source, audio: AudioFolder, deep: bool) -> Missing | None:
    was_lost = source.error_code == "lost"
    if source.state == "failed" and not was_lost:
        return None
    sentence = _what_is_wrong_with_audio(source, audio, deep)
    if sentence:
        end_source(source, "lost", sentence, ("measured", "failed"))
        return Missing(source.job.title, source.file_name, sentence)
    if was_lost or not audio.has_measured(source.digest) or not is_measured(source.digest):
        Reading.delete().where(Reading.digest == source.digest).execute()
        measure_again(source)
    return None


def _what_is_wrong_with_audio(source: Source, audio: AudioFolder, deep: bool) -> str | None:
    """Of its file, or of each that lies side by side in it; what is damaged is put aside."""
    path = audio.audio_path(source.digest)
    if not is_beside(path):
        return _put_aside(path, source.size_bytes, source.digest, deep)
    named = _put_aside(path, path.stat().st_size, source.digest, True)
    files = () if named else files_of(path)
    wrong = [_put_aside(each, _length_of(each), each.parent.name, deep) for each in files]
    return next(filter(None, (named, *wrong)), None)


def _length_of(path: Path) -> int:
    return path.stat().st_size if path.is_file() else 0


def _put_aside(path: Path, size_bytes: int, digest: str, deep: bool) -> str | None:
    sentence = _what_is_wrong(path, size_bytes, digest, deep, (AUDIO_LOST, AUDIO_CHANGED))
    if sentence and path.exists():
        path.replace(path.with_name("audio-damaged"))
    return sentence


def _deliverables(config: Config, job_id: int | None) -> Iterator[_Check]:
    query = with_names().where(Deliverable.state.in_(KEPT_FILES))
    for made in query if job_id is None else query.where(Source.job == job_id):
        yield _Check(made.size_bytes or 0, partial(_check_deliverable, made, config))


def _check_deliverable(made: Deliverable, config: Config, deep: bool) -> Missing | None:
    path = file_of(made, config.deliverables_folder)
    sentence = _what_is_wrong(path, made.size_bytes or 0, str(made.sha256), deep, (FILE_LOST, FILE_CHANGED))
    if sentence is None:
        return None
    lose_deliverable(made, sentence)
    return Missing(made.source.job.title, str(made.file_name), sentence)


def _what_is_wrong(path: Path, size_bytes: int, sha256: str, deep: bool, sentences: tuple[str, str]) -> str | None:
    gone, changed = sentences
    there_bytes = size_there(path)
    if there_bytes is None:
        return gone
    if there_bytes != size_bytes or (deep and sha256_of(bring(path)) != sha256):
        return changed
    return None


def sweep(config: Config) -> int:
    """Remove what nobody needs: of tries that were killed, of sources and jobs that are gone; bytes that it frees."""
    audio = AudioFolder(config.audio_folder)
    _sweep_uploads(config.uploads_folder)
    sweep_arrivals(config)
    free_trash(config, timedelta(days=config.trash_days))
    return audio.sweep() + _sweep_audio(audio) + _sweep_deliverables(config.deliverables_folder)


def free_trash(config: Config, older_than: timedelta | None = None) -> int:
    """Delete for good what lies in the trash, or what lies there for so long; how many bytes that frees."""
    deliverables, digests = empty_trash(older_than)
    freed = free_deliverables(deliverables, config.deliverables_folder)
    return freed + free_contents(digests, AudioFolder(config.audio_folder))


def _sweep_uploads(folder: Path) -> None:
    sweep_parts(folder)
    for path in folder.glob("*.*"):
        if time.time() - path.stat().st_mtime > UPLOAD_KEPT_S:
            path.unlink(missing_ok=True)


def sweep_arrivals(config: Config) -> None:
    """What was kept of arrivals for long enough; and what is kept of none that is known."""
    clock = clock_of(config.arrivals_clock)
    for arrival in kept_files_before(clock.now() - timedelta(days=config.arrival_days)):
        forget_files(arrival)
        drop(config.arrivals_folder / str(arrival.id))
        shutil.rmtree(config.arrivals_folder / str(arrival.id), ignore_errors=True)
    known = {str(each) for each in ids_of_arrivals()}
    for folder in config.arrivals_folder.glob("*"):
        if folder.name not in known and not _is_young(folder):
            shutil.rmtree(folder, ignore_errors=True)


def sweep_storage(config: Config) -> None:
    """The same in the object storage, where there is one: what was let go of while it was away is there still."""
    audio, needed = AudioFolder(config.audio_folder), _needed_contents()
    for _, digest in old_there(config.audio_folder, 2):
        if digest not in needed and digest not in _needed_contents():
            audio.remove(digest)
    rows = _tries_of_deliverables()
    for number, token in old_there(config.deliverables_folder, 2):
        row = rows.get(number)
        if row is None or (row.state not in UNFINISHED and token != str(row.token)):
            drop(config.deliverables_folder / number / token)
    known = {str(each) for each in ids_of_arrivals()}
    for (arrival,) in old_there(config.arrivals_folder, 1):
        if arrival not in known:
            drop(config.arrivals_folder / arrival)


def _needed_contents() -> set[str]:
    needed = {source.digest for source in Source.select(Source.digest)}
    needed |= {side for _, side in sides_of(needed)}
    prepared = Preparing.select(Preparing.digest, Preparing.source_digest)
    return needed | {each.digest for each in prepared if each.source_digest in needed}


def _tries_of_deliverables() -> dict[str, Deliverable]:
    return {str(row.id): row for row in Deliverable.select(Deliverable.id, Deliverable.token, Deliverable.state)}


def _sweep_audio(audio: AudioFolder) -> int:
    needed, freed = _needed_contents(), 0
    for digest in list(audio.digests()):
        # Asked once more of the few that seem not to be needed: the studio goes on meanwhile.
        if (
            digest not in needed
            and not _is_young(audio.named_path(digest).parent)
            and digest not in _needed_contents()
        ):
            freed += forget_contents(digest, audio)
    return freed


def forget_contents(digest: str, audio: AudioFolder) -> int:
    """Remove all that is kept of some contents and of what was prepared of them; how many bytes that frees."""
    prepared = [each.digest for each in Preparing.select().where(Preparing.source_digest == digest)]
    Reading.delete().where(Reading.digest.in_([digest, *prepared])).execute()
    Preparing.delete().where(Preparing.source_digest == digest).execute()
    forget_found(digest)
    forget_sides(digest)
    return sum(audio.remove(each) for each in (digest, *prepared))


def free_contents(digests: set[str], audio: AudioFolder) -> int:
    """Remove what is kept of contents that no source has any more; how many bytes that frees."""
    digests = digests | {side for _, side in sides_of(digests)}
    needed = {each.digest for each in Source.select(Source.digest).where(Source.digest.in_(digests))}
    needed |= needed_as_sides()
    return sum(forget_contents(digest, audio) for digest in digests - needed if digest)


def _sweep_deliverables(folder: Path) -> int:
    rows, freed = _tries_of_deliverables(), 0
    for home in folder.glob("*"):
        row = rows.get(home.name)
        if row is None:
            freed += free_folder(home) if not _is_young(home) else 0
        elif row.state not in UNFINISHED:
            freed += sum(map(free_folder, filter(partial(_is_of_earlier, row.token or 0), home.iterdir())))
            for kept in (home, *(each for each in home.iterdir() if each.is_dir())):
                sweep_parts(kept)
    return freed


def _is_of_earlier(token: int, folder: Path) -> bool:
    """Whether a folder is what an earlier try left. A later one has begun since the rows were read and is at work."""
    return folder.is_dir() and not (folder.name.isdigit() and int(folder.name) >= token)


def free_deliverables(deliverable_ids: list[int], folder: Path) -> int:
    """Remove the files of deliverables that are on no board any more; how many bytes that frees."""
    for each in deliverable_ids:
        drop(home_of(each, folder))
    return sum(free_folder(home_of(each, folder)) for each in deliverable_ids)


def _is_young(path: Path) -> bool:
    try:
        return time.time() - path.stat().st_mtime < YOUNG_S
    except FileNotFoundError:
        return True
