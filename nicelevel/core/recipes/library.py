"""The recipes that ship, and reading one from anywhere."""

from functools import cache
from pathlib import Path

from ..errors import SpecError
from ..toml import read_toml
from .recipe import NamedRecipe, parse_recipe

LIBRARY_FOLDER = Path(__file__).parent / "library"


@cache
def shipped_recipes() -> dict[str, NamedRecipe]:
    """Every recipe that ships, by its slug, in alphabetical order."""
    return {path.stem: _read(path) for path in sorted(LIBRARY_FOLDER.glob("*.toml"))}


def shipped_recipe_toml(slug: str) -> str:
    """The text of a shipped recipe. Raises SpecError where none has this slug."""
    if slug not in shipped_recipes():
        raise _unknown(slug)
    return (LIBRARY_FOLDER / f"{slug}.toml").read_text(encoding="utf-8")


def reasons_of(recipe: NamedRecipe) -> list[str]:
    """What the file of a shipped recipe says of its steps in remarks, a paragraph each."""
    paragraphs: list[list[str]] = [[]]
    for line in shipped_recipe_toml(recipe.slug).splitlines():
        if line.startswith("#"):
            paragraphs[-1].append(line.removeprefix("#").strip())
        elif paragraphs[-1]:
            paragraphs.append([])
    return [" ".join(lines) for lines in paragraphs if lines]


def load_recipe(slug_or_path: str) -> NamedRecipe:
    """A shipped recipe by slug, or any recipe by path. Raises SpecError where it is missing or broken."""
    if slug_or_path in shipped_recipes():
        return shipped_recipes()[slug_or_path]
    path = Path(slug_or_path)
    if path.suffix == ".toml" or "/" in slug_or_path:
        return _read(path)
    raise _unknown(slug_or_path)


def _unknown(slug: str) -> SpecError:
    return SpecError(f"{slug}: no such recipe; there are {', '.join(shipped_recipes())}")


def _read(path: Path) -> NamedRecipe:
    return parse_recipe(read_toml(path), path.stem)
