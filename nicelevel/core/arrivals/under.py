"""The name that an arrival is published under."""

from datetime import datetime
from pathlib import PurePosixPath

from ..errors import SpecError
from ..files.names import safe_name
from .settling import is_ignored

FIELDS = ("title", "hour", "date")


def refuse_name(name: str) -> None:
    """Raises SpecError where a name has other fields than FIELDS, or comes to nothing."""
    try:
        name.format(**dict.fromkeys(FIELDS, "x"))
    except (KeyError, IndexError, ValueError, AttributeError) as error:
        raise SpecError(f"A name may hold {{title}}, {{hour}} and {{date}}; {name} does not read so.") from error


def published_name(name: str, title: str, now: datetime) -> str:
    """Without extension; what stands before a slash is a folder, a title makes none. Raises SpecError."""
    told = {"title": title.replace("/", "_"), "hour": f"{now:%H}", "date": f"{now:%Y-%m-%d}"}
    parts = [safe_name(part.format(**told)).strip() for part in name.split("/")]
    if any(not part or part.startswith(".") or is_ignored(part) for part in parts):
        raise SpecError(f"{name} comes to no name that anything could be published under.")
    return str(PurePosixPath(*parts))
