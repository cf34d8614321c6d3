"""The recipes that there are."""

from typing import Any

from flask import Blueprint, Response, abort, render_template

from nicelevel.core.recipes import shipped_recipes
from nicelevel.core.recipes.harms import harms_of
from nicelevel.core.recipes.library import reasons_of, shipped_recipe_toml
from nicelevel.store.sources import sources_by_recipe

recipes = Blueprint("recipes", __name__, url_prefix="/recipes")


@recipes.get("/")
def index() -> Any:
    """All recipes, their steps as sentences."""
    used = sources_by_recipe()
    listed = [(recipe, used.get(recipe.name, 0)) for recipe in shipped_recipes().values()]
    return render_template("recipes/recipes.html", listed=listed, harms_of=harms_of, reasons_of=reasons_of)


@recipes.get("/<slug>.toml")
def toml(slug: str) -> Any:
    """A recipe as the file that it can be kept as."""
    if slug not in shipped_recipes():
        abort(404)
    return Response(shipped_recipe_toml(slug), mimetype="application/toml")
