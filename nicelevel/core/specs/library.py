"""The specs that ship, and reading one from anywhere."""

from functools import cache
from pathlib import Path

from ..errors import SpecError
from ..toml import read_toml
from .spec import Spec, parse_spec

LIBRARY_FOLDER = Path(__file__).parent / "library"


@cache
def shipped_specs() -> dict[str, Spec]:
    """Every spec that ships, by its slug, in alphabetical order."""
    return {path.stem: _read(path) for path in sorted(LIBRARY_FOLDER.glob("*.toml"))}


def shipped_toml(slug: str) -> str:
    """The text of a shipped spec. Raises SpecError where none has this slug."""
    if slug not in shipped_specs():
        raise SpecError(f"{slug}: no such spec; there are {', '.join(shipped_specs())}")
    return (LIBRARY_FOLDER / f"{slug}.toml").read_text(encoding="utf-8")


def load_spec(slug_or_path: str) -> Spec:
    """A shipped spec by slug, or any spec by path. Raises SpecError where it is missing or broken."""
    if slug_or_path in shipped_specs():
        return shipped_specs()[slug_or_path]
    path = Path(slug_or_path)
    if path.suffix == ".toml" or "/" in slug_or_path:
        return _read(path)
    raise SpecError(f"{slug_or_path}: no such spec; there are {', '.join(shipped_specs())}")


def _read(path: Path) -> Spec:
    return parse_spec(read_toml(path), path.stem)
