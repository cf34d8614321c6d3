"""Recipes: ordered steps with a name, as TOML files like specs."""

from .library import load_recipe, shipped_recipes
from .recipe import NamedRecipe, parse_recipe

__all__ = ["NamedRecipe", "load_recipe", "parse_recipe", "shipped_recipes"]
