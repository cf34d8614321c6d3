"""Holding two versions of a title against each other, sample by sample, when somebody looks at them."""

from contextlib import suppress
from functools import partial

import procrastinate

from nicelevel.config import Config
from nicelevel.core.hear.differences import differences_between
from nicelevel.store.audio import AudioFolder
from nicelevel.store.database import database, persistently
from nicelevel.store.differences import keep_differences
from nicelevel.store.models import Source
from nicelevel.store.sources import find_source

from .trying import Call, ending, progress_of, task

COMPARE_PRIORITY = 8
"""Somebody looks at it: before what is prepared and rendered, after what is measured."""


def _give_up(config: Config, code: str, sentence: str, older_id: int, newer_id: int) -> None:
    older, newer = find_source(older_id), find_source(newer_id)
    if older and newer:
        keep_differences(older, newer, None, sentence)


@task(_give_up)
def compare_versions(call: Call, older_id: int, newer_id: int) -> None:
    """Find what differs between two measured sources and keep it."""
    older, newer = find_source(older_id), find_source(newer_id)
    if older is None or newer is None:
        return

    def fail(code: str, sentence: str) -> bool:
        keep_differences(older, newer, None, sentence)
        return True

    with ending(call, fail, lambda: True):
        audio = AudioFolder(call.config.audio_folder)
        paths = [audio.playable_path(each.digest) for each in (older, newer)]
        found = differences_between(paths[0], paths[1], progress_of(call, lambda _: True))
        persistently(partial(keep_differences, older, newer, found))


def defer_comparison(older: Source, newer: Source) -> None:
    """Have two versions compared; once is enough."""
    lock = f"compare {older.digest} {newer.digest}"
    with suppress(procrastinate.exceptions.AlreadyEnqueued), database.atomic():
        comparing = compare_versions.configure(
            queueing_lock=lock, lock=lock, priority=COMPARE_PRIORITY, connection=database.connection()
        )
        comparing.defer(older_id=older.id, newer_id=newer.id)
