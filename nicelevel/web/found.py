"""Finding what an address names, or answering 404."""

from flask import abort, current_app

from nicelevel.store.audio import AudioFolder
from nicelevel.store.deliverables import find_deliverable
from nicelevel.store.jobs import find_destination, find_job
from nicelevel.store.models import Deliverable, Destination, Job, Sending, Source
from nicelevel.store.recipes import KnownRecipe, known_recipes
from nicelevel.store.sendings import find_sending
from nicelevel.store.sources import find_source


def job_or_404(job_id: int) -> Job:
    return find_job(job_id) or abort(404)


def source_or_404(source_id: int) -> Source:
    return find_source(source_id) or abort(404)


def destination_or_404(destination_id: int) -> Destination:
    return find_destination(destination_id) or abort(404)


def deliverable_or_404(deliverable_id: int) -> Deliverable:
    return find_deliverable(deliverable_id) or abort(404)


def sending_or_404(sending_id: int) -> Sending:
    return find_sending(sending_id) or abort(404)


def recipe_or_404(slug: str) -> KnownRecipe:
    return known_recipes().get(slug) or abort(404)


def audio() -> AudioFolder:
    folder: AudioFolder = current_app.config["AUDIO"]
    return folder
