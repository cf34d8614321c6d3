"""Lines: drawn, changed, taken away."""

from datetime import UTC, datetime
from typing import Any

from nicelevel.core.arrivals import LineSettings
from nicelevel.core.arrivals.settings import line_of

from .changes import announce_line
from .models import Line


def lines() -> list[Line]:
    """All that are not in the trash, in the order in which they were drawn."""
    return list(Line.select().where(Line.trashed_at.is_null()).order_by(Line.id))


def find_line(line_id: int) -> Line | None:
    found: Line | None = Line.get_or_none(Line.id == line_id, Line.trashed_at.is_null())
    return found


def settings_of(line: Line) -> LineSettings:
    return line_of(line.told)


def add_line(settings: LineSettings) -> Line:
    line: Line = Line.create(told=settings.model_dump())
    announce_line(line.id)
    return line


def change_line(line: Line, settings: LineSettings) -> None:
    told, before = settings.model_dump(), settings_of(line)
    fresh: dict[str, Any] = {"told": told, "trouble": None}
    if settings.expected != before.expected or (settings.runs and not before.runs):
        # What was expected before that, or while it stood still, is nothing that did not come.
        fresh["made_at"] = datetime.now(UTC)
    Line.update(**fresh).where(Line.id == line.id).execute()
    announce_line(line.id)


def trash_line(line: Line) -> None:
    """Nothing is taken any more; what was published stays."""
    Line.update(trashed_at=datetime.now(UTC)).where(Line.id == line.id).execute()
    announce_line(line.id)


def save_trouble(line_id: int, sentence: str | None) -> None:
    """What keeps a line from being watched, None where nothing does; told once."""
    fresh = Line.trouble.is_null() | (Line.trouble != sentence) if sentence else Line.trouble.is_null(False)
    if Line.update(trouble=sentence).where(Line.id == line_id, fresh).execute():
        announce_line(line_id)
