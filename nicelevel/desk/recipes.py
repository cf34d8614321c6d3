"""Recipes given to sources: by a person, or by rule to what comes into a job; and how what a source has is called."""

import json
from collections.abc import Callable, Sequence
from dataclasses import dataclass

from nicelevel.core.recipes import NamedRecipe
from nicelevel.core.steps import Recipe, Step, recipe_to_json
from nicelevel.core.values import LOSSY, Reading
from nicelevel.store.audio import AudioFolder
from nicelevel.store.database import database
from nicelevel.store.models import IntakeRule, Source
from nicelevel.store.readings import load_figures
from nicelevel.store.recipes import KnownRecipe, known_recipes
from nicelevel.store.rules import rules_of
from nicelevel.store.sources import give_recipe, prepared_sources, take_under_rules

from .contents import recipe_of
from .mending import mending

MENDED, OWN = "Mended", "Own steps"
"""What a recipe is called that nobody named."""


def give(source: Source, recipe: Recipe, name: str | None, soft_db: float = 0.0) -> None:
    """A source its steps, none for as it came, and what is wished of limiters."""
    is_any = recipe or soft_db
    give_recipe(source, json.dumps(recipe_to_json(recipe)) if recipe else None, name if is_any else None, soft_db)


def give_named(source: Source, recipe: NamedRecipe) -> None:
    """A source all that a recipe wishes."""
    give(source, recipe.steps, recipe.name, recipe.limiter.soft_db)


def mend(source: Source, reading: Reading, codes: Sequence[str] | None = None) -> bool:
    """Put the steps that mend what is noted before a source's own; whether there are any that it has not yet.

    codes: of the notes that are to be mended; None for all.
    """
    own = recipe_of(source)
    steps = tuple(step for step in mending(reading, codes) if step not in own)
    if steps:
        give(source, (*steps, *own), source.recipe_name or MENDED, source.soft_db)
    return bool(steps)


def called(name: str | None, steps: Sequence[Step], known: KnownRecipe | None) -> str:
    """The name of a source's recipe, which version it has, and whether it was changed here.

    known: the recipe that is kept under this name.
    """
    if name is None or known is None:
        return name or "none"
    number = version_with(known, steps)
    if number is None:
        return f"{name}, changed here"
    if number == len(known.versions):
        return name
    return f"{name}, version {number}; {len(known.versions)} is the newest"


def version_with(known: KnownRecipe, steps: Sequence[Step]) -> int | None:
    """The number of the latest version of a recipe with these steps, the first being 1."""
    numbers = (number for number, each in enumerate(known.versions, 1) if each.steps == tuple(steps))
    return max(numbers, default=None)


@dataclass(frozen=True)
class Use:
    """Of the sources that are prepared under a name: all, and those with an older version as it was kept."""

    sources: int = 0
    older: tuple[Source, ...] = ()


def uses_of(known: KnownRecipe) -> Use:
    """Which sources a recipe prepares."""
    having = prepared_sources(known.name)
    numbers = {source.id: version_with(known, recipe_of(source)) for source in having}
    older = tuple(each for each in having if (numbers[each.id] or len(known.versions)) < len(known.versions))
    return Use(len(having), older)


def prepare_by_rules(source: Source, audio: AudioFolder) -> bool:
    """Give a source what the first rule of its job that fits wishes, once: when it was measured first.

    A recipe that it has it keeps. Whether it is to be rendered at once.
    """
    reading = load_figures(source.digest, audio)
    with database.atomic():
        if source.is_ruled or not take_under_rules(source):
            return False
        rule = next((each for each in rules_of(source.job_id) if fits(each, source.file_name, reading)), None)
        if rule is None:
            return False
        if source.recipe_name is None:
            _prepare_by(rule, source, reading)
        return bool(rule.renders)


def _prepare_by(rule: IntakeRule, source: Source, reading: Reading) -> None:
    mended, known = mending(reading) if rule.mends else (), known_recipes().get(rule.recipe or "")
    if known:
        give(source, (*mended, *known.recipe.steps), known.name, known.recipe.limiter.soft_db)
    else:
        give(source, mended, MENDED)


def fits(rule: IntakeRule, file_name: str, reading: Reading) -> bool:
    """Whether a rule is meant for a file."""
    channels, is_lossless = reading.source.shape.channels, reading.source.encoding not in LOSSY
    return (
        (rule.channels is None or _CHANNELS[rule.channels](channels))
        and (rule.kind is None or (rule.kind == "lossless") == is_lossless)
        and (rule.name_has is None or rule.name_has.casefold() in file_name.casefold())
    )


_CHANNELS: dict[str, Callable[[int], bool]] = {
    "one": lambda channels: channels == 1,
    "two": lambda channels: channels == 2,
    "more": lambda channels: channels > 2,
}
