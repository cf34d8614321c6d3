"""Removing the files of deliverables that are no longer on any board."""

import shutil
from collections.abc import Iterable

from flask import current_app

from nicelevel.store.deliverables import home_of


def discard_files(deliverable_ids: Iterable[int]) -> None:
    folder = current_app.config["NICE_LEVEL"].deliverables_folder
    for deliverable_id in deliverable_ids:
        shutil.rmtree(home_of(deliverable_id, folder), ignore_errors=True)
