"""The folder of backups: which there are, when they were taken, what was found when they were read last."""

import json
from contextlib import suppress
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path

LIST, CHECKED = "files.json", "checked.json"
TIME_FORMAT = "%Y-%m-%dT%H%M%SZ"


@dataclass(frozen=True)
class Checked:
    """When a backup was read last, byte for byte, and what was wrong, in sentences."""

    at: datetime
    wrong: tuple[str, ...]


def snapshots(into: Path) -> list[Path]:
    """Every backup there, the oldest first."""
    return sorted(each for each in into.glob("*Z") if _time_of(each) and (each / LIST).is_file())


def taken_at(snapshot: Path) -> datetime:
    found = _time_of(snapshot)
    assert found
    return found


def last_taken(into: Path) -> datetime | None:
    there = snapshots(into)
    return taken_at(there[-1]) if there else None


def last_checked(into: Path) -> Checked | None:
    with suppress(OSError, ValueError, KeyError):
        told = json.loads((into / CHECKED).read_text())
        return Checked(datetime.fromisoformat(told["at"]), tuple(told["wrong"]))
    return None


def say_checked(into: Path, wrong: list[str]) -> None:
    told = {"at": datetime.now(UTC).isoformat(timespec="seconds"), "wrong": wrong}
    (into / CHECKED).write_text(json.dumps(told, indent=1))


def _time_of(snapshot: Path) -> datetime | None:
    with suppress(ValueError):
        return datetime.strptime(snapshot.name, TIME_FORMAT).replace(tzinfo=UTC)
    return None
