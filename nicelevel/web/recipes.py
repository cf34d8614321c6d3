"""The recipes that there are: shown with their steps and versions, copied, renamed, taken in and out as TOML."""

from typing import Any

from flask import Blueprint, Response, jsonify, render_template, request

from nicelevel.core.errors import SpecError
from nicelevel.core.recipes import parse_recipe
from nicelevel.core.recipes.harms import harms_of
from nicelevel.core.recipes.library import reasons_of
from nicelevel.core.recipes.write import recipe_to_toml
from nicelevel.core.toml import LARGEST_TOML_BYTES
from nicelevel.desk.recipes import give_named, uses_of
from nicelevel.store.recipes import (
    find_recipe,
    free_name,
    keep_recipe,
    known_recipes,
    rename_recipe,
    toml_of,
    trash_recipe,
)
from nicelevel.store.undo import changing
from nicelevel.work.enqueue import enqueue_preparations

from .for_programs import recipe_json, wants_json
from .found import audio, recipe_or_404

recipes = Blueprint("recipes", __name__, url_prefix="/recipes")


@recipes.get("/")
def index() -> Any:
    """All recipes, their steps as sentences; own ones first."""
    listed = sorted(known_recipes().values(), key=lambda known: not known.is_own)
    if wants_json():
        return jsonify(recipes=[recipe_json(each) for each in listed])
    return render_template(
        "recipes/recipes.html",
        listed=[(known, uses_of(known)) for known in listed],
        harms_of=harms_of,
        reasons_of=reasons_of,
    )


@recipes.get("/<slug>.toml")
def toml(slug: str) -> Any:
    """A recipe as the file that it can be kept as; `version` for one that is no longer the newest."""
    recipe_or_404(slug)
    text = toml_of(slug, request.args.get("version", type=int))
    headers = {"Content-Disposition": f'attachment; filename="{slug}.toml"'}
    return Response(text, mimetype="application/toml", headers=headers)


@recipes.post("/import")
def take_in() -> Any:
    """A recipe from a TOML file, its bytes the body: of an own one with its name the next version."""
    try:
        text = request.stream.read(LARGEST_TOML_BYTES + 1).decode("utf-8-sig")
    except UnicodeDecodeError as error:
        raise SpecError("The file is not readable as text.") from error
    parse_recipe(text, request.args.get("name", "recipe").removesuffix(".toml"))
    return _kept(text)


@recipes.post("/<slug>/copy")
def copy(slug: str) -> Any:
    """An own recipe with these steps and a name of its own."""
    recipe = recipe_or_404(slug).recipe
    about = recipe.recipe.model_copy(update={"name": free_name(f"{recipe.name}, own")})
    return _kept(recipe_to_toml(recipe.model_copy(update={"recipe": about})))


@recipes.post("/<slug>/again")
def again(slug: str) -> Any:
    """An earlier version once more, as the newest, under the name that it has now."""
    known = recipe_or_404(slug)
    earlier = parse_recipe(toml_of(slug, request.form.get("version", type=int)), slug)
    return _kept(recipe_to_toml(earlier.model_copy(update={"recipe": known.recipe.recipe})))


@recipes.post("/<slug>/rename")
def rename(slug: str) -> Any:
    """Call an own recipe otherwise."""
    recipe_or_404(slug)
    rename_recipe(slug, request.form.get("name", "").strip())
    return jsonify(slug=slug)


@recipes.post("/<slug>/delete")
def delete(slug: str) -> Any:
    """Throw an own recipe away; what it was given to keeps its steps."""
    known = recipe_or_404(slug)
    with changing(f"deleted {known.name}"):
        trash_recipe(slug)
    return jsonify(slug=slug)


@recipes.post("/<slug>/bring-up")
def bring_up(slug: str) -> Any:
    """Give the newest version to the sources that have an older one as it was kept."""
    recipe_or_404(slug)
    known = find_recipe(slug)
    older = uses_of(known).older
    for job_id in {source.job_id for source in older}:
        mine = [source for source in older if source.job_id == job_id]
        with changing(f"brought {known.name} up to version {known.version}", job_id):
            for source in mine:
                give_named(source, known.recipe)
        enqueue_preparations(job_id, audio(), [source.id for source in mine])
    return jsonify(sources=len(older))


def _kept(text: str) -> Any:
    known = keep_recipe(text)
    return jsonify(slug=known.slug, version=known.version)
