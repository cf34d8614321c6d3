"""A recipe as the TOML that it is read from."""

from typing import Any

import tomli_w

from ..steps.table import steps_to_tables
from .recipe import NamedRecipe


def recipe_to_toml(recipe: NamedRecipe) -> str:
    """Its text: what is left at its default left out."""
    tables: dict[str, Any] = {"recipe": {"name": recipe.name}}
    if recipe.limiter.soft_db:
        tables["limiter"] = {"soft_db": recipe.limiter.soft_db}
    if recipe.steps:
        tables["steps"] = steps_to_tables(recipe.steps)
    return tomli_w.dumps(tables)
