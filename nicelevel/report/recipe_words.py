"""Recipes in sentences."""

from collections.abc import Sequence

from nicelevel.core.recipes import NamedRecipe
from nicelevel.core.steps import Step
from nicelevel.core.words import amount


def steps_line(steps: Sequence[Step]) -> str:
    """What is asked for, step after step."""
    return " ".join(step.wish for step in steps)


def recipe_line(recipe: NamedRecipe) -> str:
    """All that a recipe asks for."""
    return " ".join(filter(None, (steps_line(recipe.steps), limiter_line(recipe))))


def limiter_line(recipe: NamedRecipe) -> str:
    """What it wishes of a destination's limiter; empty where it wishes nothing."""
    return soft_line(recipe.limiter.soft_db)


def soft_line(soft_db: float) -> str:
    """The same of a figure alone."""
    return (
        f"A limiter, where a destination allows one, begins {amount(soft_db)} dB under its ceiling."
        if soft_db
        else ""
    )
