"""What differs between two versions of a title, kept for two contents and the method that found it."""

from dataclasses import asdict
from typing import Any

from nicelevel.core.hear.differences import METHOD, Band, Differences, Edit

from .changes import announce
from .database import database
from .models import Source, VersionDifference


def kept_differences(older: Source, newer: Source) -> tuple[Differences | None, str | None]:
    """What was found, or why it could not be; neither where it was not looked for yet."""
    row = VersionDifference.get_or_none(
        VersionDifference.older_digest == older.digest,
        VersionDifference.newer_digest == newer.digest,
        VersionDifference.method == METHOD,
    )
    if row is None:
        return None, None
    return (_from_json(row.found) if row.found else None), row.error_message


def keep_differences(older: Source, newer: Source, found: Differences | None, error: str | None = None) -> None:
    """Keep what was found between two sources, or why it could not be."""
    kept = {"method": METHOD, "found": asdict(found) if found else None, "error_message": error}
    digests = {"older_digest": older.digest, "newer_digest": newer.digest}
    targets = [VersionDifference.older_digest, VersionDifference.newer_digest]
    with database.atomic():
        VersionDifference.insert(**digests, **kept).on_conflict(conflict_target=targets, update=kept).execute()
        announce(newer.job_id, newer.id)


def _from_json(stored: dict[str, Any]) -> Differences:
    lists = {
        "bands": tuple(Band(**each) for each in stored["bands"]),
        "edits": tuple(Edit(**each) for each in stored["edits"]),
        "places": tuple((first, last) for first, last in stored["places"]),
    }
    return Differences(**{**stored, **lists})
