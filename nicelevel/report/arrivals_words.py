"""A line's day in figures and words."""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from statistics import median
from typing import Any

from nicelevel.core.arrivals.drift import Drift

from .arrivals_view import LIMITED_FROM_DB, state_words
from .words import level

DAY_COLUMNS = (
    ("Came", "time"),
    ("Expected", "time"),
    ("Late by, s", "num"),
    ("File", "name"),
    ("Length in, s", "num"),
    ("In, LUFS", "num"),
    ("In, dBTP", "num"),
    ("Length out, s", "num"),
    ("Out, LUFS", "num"),
    ("Out, dBTP", "num"),
    ("Gain, dB", "num"),
    ("Limited, dB", "num"),
    ("What became of it", "name"),
    ("Published as", "name"),
    ("Why", "name"),
)
"""Titles and kinds, in the order of `DayRow.cells`."""

OF_A_WEEK_S = 6 * 86_400.0


@dataclass(frozen=True)
class DayRow:
    arrival_id: int
    state: str
    cells: tuple[str, ...]


def day_rows(arrivals: Sequence[Any]) -> list[DayRow]:
    """A row for each arrival."""
    return [DayRow(each.id, each.state, tuple(_cells(each))) for each in arrivals]


def _cells(arrival: Any) -> list[str]:
    expected, came = arrival.expected_at, arrival.arrived_at
    late_s = (came - expected).total_seconds() if expected and arrival.state != "missing" else None
    into, out = arrival.figures.get("came"), arrival.figures.get("made")
    return [
        "" if arrival.state == "missing" else f"{came.astimezone():%H:%M:%S}",
        f"{expected.astimezone():%H:%M:%S}" if expected else "",
        "" if late_s is None else f"{max(0.0, late_s):.0f}",
        arrival.name,
        *_of_side(into),
        *_of_side(out),
        _figure(arrival.figures.get("gain_db"), signed=True),
        _figure(arrival.figures.get("limiting_db")),
        state_words(arrival),
        ", ".join(arrival.published),
        arrival.error_message or "",
    ]


def _of_side(told: dict[str, Any] | None) -> list[str]:
    if told is None:
        return ["", "", ""]
    return [f"{told['length_s']:.1f}", _figure(told["lufs"]), _figure(told["dbtp"])]


def _figure(value: float | None, signed: bool = False) -> str:
    return "" if value is None else level(value, signed)


def day_sums(arrivals: Sequence[Any]) -> list[tuple[str, str]]:
    """What a day comes to: a word and a figure each."""
    into = [each.figures["came"]["lufs"] for each in arrivals if each.figures.get("came")]
    out = [
        each.figures["made"]["lufs"] for each in arrivals if each.figures.get("made") and each.state == "published"
    ]
    limited = [each for each in arrivals if each.figures.get("limiting_db", 0.0) >= LIMITED_FROM_DB]
    states = [each.state for each in arrivals]
    late = sum(each.is_late and each.state != "missing" for each in arrivals)
    return [
        ("came in", str(sum(state not in ("missing", "gone") for state in states))),
        ("published", str(states.count("published"))),
        ("held back", str(states.count("held"))),
        ("late", str(late)),
        ("did not come", str(states.count("missing"))),
        ("limited", str(len(limited))),
        ("in, LUFS (median)", _median(into)),
        ("out, LUFS (median)", _median(out)),
    ]


def _median(levels: Sequence[float | None]) -> str:
    known = [each for each in levels if each is not None]
    return level(median(known)) if known else "–"


def drift_words(drift: Drift, until: datetime) -> str:
    """This supplier has come 3.0 LU quieter since Tuesday."""
    since = datetime.fromtimestamp(drift.since_s)
    days = until.timestamp() - drift.since_s
    when = f"{since:%H:%M}" if days < 86_400 else f"{since:%A}" if days < OF_A_WEEK_S else f"{since.day} {since:%B}"
    how = "louder" if drift.by_lu > 0 else "quieter"
    return f"What comes has been {abs(drift.by_lu):.1f} LU {how} since {when}."
