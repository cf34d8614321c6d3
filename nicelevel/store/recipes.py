"""Recipes that ship and people's own, in versions that are kept for ever."""

from dataclasses import dataclass
from datetime import UTC, datetime
from functools import lru_cache

from nicelevel.core import slugs
from nicelevel.core.errors import SpecError
from nicelevel.core.recipes import NamedRecipe, parse_recipe, shipped_recipes
from nicelevel.core.recipes.library import shipped_recipe_toml
from nicelevel.core.recipes.write import recipe_to_toml

from .changes import announce
from .database import database
from .journal import enter
from .models import RecipeInTrash, RecipeVersion, Source


@dataclass(frozen=True)
class KnownRecipe:
    """A recipe with all its versions, the newest last; one that ships has one, with the number 0."""

    slug: str
    versions: tuple[NamedRecipe, ...]
    is_own: bool

    @property
    def recipe(self) -> NamedRecipe:
        return self.versions[-1]

    @property
    def name(self) -> str:
        return self.recipe.name

    @property
    def version(self) -> int:
        return len(self.versions) if self.is_own else 0


def known_recipes() -> dict[str, KnownRecipe]:
    """Every recipe that ships and every own one that is not in the trash, by its slug, own ones last."""
    gone = {row.slug for row in RecipeInTrash.select()}
    return {slug: each for slug, each in _ever_kept().items() if slug not in gone}


def _ever_kept() -> dict[str, KnownRecipe]:
    """Those in the trash too: their names are taken, for they may come back."""
    shipped = {slug: KnownRecipe(slug, (recipe,), False) for slug, recipe in shipped_recipes().items()}
    own: dict[str, list[NamedRecipe]] = {}
    for row in RecipeVersion.select().order_by(RecipeVersion.slug, RecipeVersion.number):
        own.setdefault(row.slug, []).append(_parsed(row.toml, row.slug))
    return shipped | {slug: KnownRecipe(slug, tuple(versions), True) for slug, versions in own.items()}


def find_recipe(slug: str) -> KnownRecipe:
    """Raises SpecError where there is none with this slug."""
    known = known_recipes()
    if slug not in known:
        raise SpecError(f"{slug}: no such recipe; there are {', '.join(known)}")
    return known[slug]


def recipe_named(name: str) -> KnownRecipe | None:
    """The recipe with a name, in its newest version, also where it lies in the trash."""
    return next((each for each in _ever_kept().values() if each.name == name), None)


def toml_of(slug: str, number: int | None = None) -> str:
    """The text of a version of a recipe, the newest by default. Raises SpecError where there is none."""
    known = find_recipe(slug)
    if not known.is_own:
        return shipped_recipe_toml(slug)
    row = RecipeVersion.get_or_none(RecipeVersion.slug == slug, RecipeVersion.number == (number or known.version))
    if row is None:
        raise SpecError(f"{known.name} has no version {number}.")
    return str(row.toml)


def keep_recipe(toml: str) -> KnownRecipe:
    """Keep a recipe: of an own one with the same name the next version, else a new one.

    Out of the trash it comes back.

    Raises SpecError where the text is broken, or where its name is that of a recipe that ships.
    """
    told = parse_recipe(toml, "recipe")
    with database.atomic():
        database.execute_sql("SELECT pg_advisory_xact_lock(hashtext('recipes'))")
        known = recipe_named(told.name)
        if known and not known.is_own:
            raise SpecError(f"{told.name} ships with Nice Level and stays as it is; give yours another name.")
        slug = known.slug if known else _free_slug(told.name)
        if known is None or known.recipe != told.model_copy(update={"slug": slug}):
            number = (known.version if known else 0) + 1
            RecipeVersion.create(slug=slug, number=number, toml=toml)
            enter(f"kept the recipe {told.name} as version {number}")
        RecipeInTrash.delete().where(RecipeInTrash.slug == slug).execute()
        kept = recipe_named(told.name)
    assert kept
    return kept


def free_name(name: str) -> str:
    """A name that no recipe has, made of this one."""
    taken, number, free = {each.name for each in _ever_kept().values()}, 2, name
    while free in taken:
        free, number = f"{name} {number}", number + 1
    return free


def rename_recipe(slug: str, name: str) -> None:
    """Call an own recipe otherwise, by a version more; sources that are prepared by it follow.

    Raises SpecError where it ships, or the name is taken or none.
    """
    known = _own(slug)
    if name == known.name:
        return
    if recipe_named(name):
        raise SpecError(f"Another recipe is called {name}.")
    about = known.recipe.recipe.model_copy(update={"name": name})
    toml = recipe_to_toml(known.recipe.model_copy(update={"recipe": about}))
    parse_recipe(toml, slug)
    with database.atomic():
        RecipeVersion.create(slug=slug, number=known.version + 1, toml=toml)
        enter(f"called the recipe {known.name} {name}")
        for source in Source.select().where(Source.recipe_name == known.name):
            Source.update(recipe_name=name).where(Source.id == source.id).execute()
            announce(source.job_id, source.id)


def trash_recipe(slug: str) -> None:
    """Throw an own recipe away; what it was given to keeps its steps. Raises SpecError where it ships."""
    _own(slug)
    RecipeInTrash.insert(slug=slug, trashed_at=datetime.now(UTC)).on_conflict_ignore().execute()


def _own(slug: str) -> KnownRecipe:
    known = find_recipe(slug)
    if not known.is_own:
        raise SpecError(f"{known.name} ships with Nice Level and stays as it is; copy it to change it.")
    return known


def _free_slug(name: str) -> str:
    return slugs.free_slug(slugs.slug_of(name, "recipe"), _ever_kept())


@lru_cache(maxsize=256)
def _parsed(toml: str, slug: str) -> NamedRecipe:
    return parse_recipe(toml, slug)
