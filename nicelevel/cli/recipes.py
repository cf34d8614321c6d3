"""nice-level recipes, and the option that names one"""

import json
from collections.abc import Callable
from typing import Any

import click

from nicelevel.core.recipes import NamedRecipe, load_recipe, shipped_recipes
from nicelevel.core.recipes.library import shipped_recipe_toml
from nicelevel.core.recipes.recipe import About

from .table import print_table


def recipe_option(command: Callable[..., Any]) -> Callable[..., Any]:
    """The option that says what is done to files before all else."""
    return click.option(
        "--recipe", "recipe_name", help="Steps done first: a shipped recipe's slug, or the path of a recipe file."
    )(command)


def recipe_of(name: str | None) -> NamedRecipe:
    """The recipe that the option says, one without steps where it says none.

    Raises SpecError where it is missing or broken.
    """
    return load_recipe(name) if name else NamedRecipe(recipe=About(name="None"))


@click.command()
@click.option("--json", "as_json", is_flag=True, help="Print JSON Lines for programs.")
@click.argument("slug", required=False)
def recipes(as_json: bool, slug: str | None) -> None:
    """List the recipes that ship, or print the one with this SLUG as TOML, to be changed and kept as a file."""
    if slug is not None:
        click.echo(shipped_recipe_toml(slug), nl=False)
        return
    shipped = shipped_recipes()
    if as_json:
        for name, recipe in shipped.items():
            click.echo(
                json.dumps({"slug": name, "name": recipe.name, "steps": len(recipe.steps)}, ensure_ascii=False)
            )
        return
    rows = [[name, recipe.name, " ".join(step.wish for step in recipe.steps)] for name, recipe in shipped.items()]
    print_table(("slug", "name", "steps"), rows, left=3)
