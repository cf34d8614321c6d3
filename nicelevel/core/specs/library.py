"""The specs that ship, and reading one from anywhere."""

from functools import cache
from pathlib import Path

from ..errors import SpecError
from ..toml import LARGEST_TOML_BYTES
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
    try:
        # Looked at before it is opened: a pipe would wait for somebody to write, for ever.
        if not path.is_file():
            raise SpecError(f"{path.name}: {'is no file' if path.exists() else 'cannot be read: no such file'}")
        with path.open("rb") as file:
            text = file.read(LARGEST_TOML_BYTES + 1).decode("utf-8-sig")
    except UnicodeDecodeError as error:
        raise SpecError(f"{path.name}: not readable as text") from error
    except OSError as error:
        raise SpecError(f"{path.name}: cannot be read: {(error.strerror or str(error)).lower()}") from error
    return parse_spec(text, path.stem)
