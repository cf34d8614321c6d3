"""Putting the demo job on the board of somebody who has no job yet."""

import ctypes
import shutil
import signal
import uuid
from concurrent.futures import ProcessPoolExecutor
from datetime import date, timedelta
from pathlib import Path

import click

from nicelevel.config import Config
from nicelevel.core.digest import sha256_of
from nicelevel.core.errors import NoSpaceError
from nicelevel.core.recipes import shipped_recipes
from nicelevel.desk.recipes import give_named
from nicelevel.store.audio import AudioFolder
from nicelevel.store.database import connected, database
from nicelevel.store.jobs import all_jobs, make_job
from nicelevel.work.enqueue import enqueue_source

from .lines import make_demo_lines
from .sources import DEMO_SOURCES, EDITION, SEED, make_source

TITLE = "Skerry Light museum, winter season"
DESTINATIONS = ("european-broadcast", "podcast", "loud-streaming", "speech-handset")
DUE_IN_DAYS = 9
MAKERS = 2
ROOM_BYTES = 1_000_000_000
"""Of its files, what is measured of them, and what is going to be rendered."""


def make_demo_job(config: Config) -> None:
    """Make the demo job where there is no job at all. Raises NoSpaceError where it does not fit."""
    with connected():
        if all_jobs():
            return
    folder = config.data_folder / f"demo-{SEED}-{EDITION}"
    if shutil.disk_usage(config.data_folder).free < ROOM_BYTES:
        raise NoSpaceError(f"it takes {ROOM_BYTES / 1e9:.0f} GB, and there is less room in {config.data_folder}.")
    files = make_demo_files(folder)
    audio = AudioFolder(config.audio_folder)
    config.uploads_folder.mkdir(parents=True, exist_ok=True)
    with connected(), database.atomic():
        job = make_job(TITLE, date.today() + timedelta(days=DUE_IN_DAYS), DESTINATIONS)
        for demo, path in zip(DEMO_SOURCES, files, strict=True):
            copy = config.uploads_folder / f"{uuid.uuid4().hex}.part"
            shutil.copyfile(path, copy)
            digest = sha256_of(path)
            audio.adopt(copy, digest)
            source = enqueue_source(job.id, demo.file_name, digest, path.stat().st_size, demo.title, demo.kind)
            if demo.recipe:
                recipe = shipped_recipes()[demo.recipe]
                give_named(source, recipe)
        make_demo_lines(config, folder)


def _end_with_parent() -> None:
    """Have the system end a maker whose parent is killed: nobody would tell it (prctl(2), PR_SET_PDEATHSIG)."""
    ctypes.CDLL(None).prctl(1, signal.SIGKILL)


def make_demo_files(folder: Path) -> list[Path]:
    """The files of the demo, synthesised where they are missing; in the order of DEMO_SOURCES."""
    folder.mkdir(parents=True, exist_ok=True)
    missing = [number for number, demo in enumerate(DEMO_SOURCES) if not (folder / demo.file_name).exists()]
    if missing:
        click.echo("Making the demo job…")
        with ProcessPoolExecutor(MAKERS, initializer=_end_with_parent) as pool:
            list(pool.map(make_source, missing, [folder] * len(missing)))
    return [folder / demo.file_name for demo in DEMO_SOURCES]
