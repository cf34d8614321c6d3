"""Recipes for sources: given, taken back, made of what mends their notes."""

import json
from collections.abc import Sequence
from typing import Any

from flask import Blueprint, jsonify, request

from nicelevel.core.errors import SpecError
from nicelevel.core.recipes import shipped_recipes
from nicelevel.core.steps import Recipe, recipe_to_json
from nicelevel.desk.contents import recipe_of
from nicelevel.desk.mending import mending
from nicelevel.report.recipe_words import steps_line
from nicelevel.store.models import Source
from nicelevel.store.readings import load_figures
from nicelevel.store.sources import find_source, give_recipe
from nicelevel.store.undo import changing
from nicelevel.work.enqueue import enqueue_preparations

from .found import audio, job_or_404

preparing = Blueprint("preparing", __name__)

MENDED = "Mended"


@preparing.post("/jobs/<int:job_id>/prepare")
def prepare(job_id: int) -> Any:
    """Give some sources of a job a recipe by its slug; without one they are as they came."""
    found, slug = _sources(job_id), request.form.get("recipe", "")
    if slug and slug not in shipped_recipes():
        raise SpecError(f"{slug}: no such recipe; there are {', '.join(shipped_recipes())}")
    recipe = shipped_recipes().get(slug)
    words = f"prepared {_counted(found)} by {recipe.name}" if recipe else f"left {_counted(found)} as they came"
    with changing(words, job_id):
        for source in found:
            _give(source, recipe.steps if recipe else (), recipe.name if recipe else None)
    enqueue_preparations(job_id, audio())
    return jsonify(prepared=len(found))


@preparing.post("/jobs/<int:job_id>/mend")
def mend(job_id: int) -> Any:
    """Mend what was noted of some sources of a job, all that can be mended, or what has one of some codes."""
    codes = request.form.getlist("note") or None
    mended = 0
    found = [source for source in _sources(job_id) if source.state == "measured"]
    with changing(f"mended {_counted(found)}", job_id):
        for source in found:
            own = recipe_of(source)
            steps = tuple(step for step in mending(load_figures(source.digest, audio()), codes) if step not in own)
            if steps:
                _give(source, (*steps, *own), source.recipe_name or MENDED)
                mended += 1
    enqueue_preparations(job_id, audio())
    return jsonify(mended=mended)


def recipe_words(source: Source) -> str:
    """What is done to a source first, step after step."""
    return steps_line(recipe_of(source))


def _sources(job_id: int) -> list[Source]:
    job_or_404(job_id)
    found = filter(None, map(find_source, request.form.getlist("source", type=int)))
    return [each for each in found if each.job_id == job_id]


def _give(source: Source, recipe: Recipe, name: str | None) -> None:
    give_recipe(source, json.dumps(recipe_to_json(recipe)) if recipe else None, name if recipe else None)


def _counted(sources: Sequence[Source]) -> str:
    return sources[0].title if len(sources) == 1 else f"{len(sources)} sources"
