"""Freeing what belonged to sources, destinations and jobs that are gone."""

from collections.abc import Collection, Iterable

from flask import current_app

from nicelevel.work.keeping import free_contents, free_deliverables

from .found import audio


def free_deliverables_here(deliverable_ids: Iterable[int], digests: Collection[str] = ()) -> int:
    """Remove the files of deliverables, and contents that no source has any more; how many bytes that frees."""
    folder = current_app.config["NICE_LEVEL"].deliverables_folder
    return free_deliverables(list(deliverable_ids), folder) + free_contents(set(digests), audio())
