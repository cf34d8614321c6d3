"""The Arrivals screen drawn: each line a tube over the hours of a day, a bubble for each arrival."""

from collections.abc import Sequence
from dataclasses import dataclass, field
from datetime import date, datetime, timedelta
from typing import Any

from nicelevel.core.arrivals.schedule import day_span

from .words import length, level

LEFT_PX, RIGHT_PX, ROW_PX, TOP_PX = 300, 30, 84, 34
LIMITED_FROM_DB = 0.1


@dataclass(frozen=True)
class Bubble:
    """kind: as it is drawn; late_px: how far left its time lies; label: said of it."""

    kind: str
    x: float
    label: str
    arrival_id: int | None = None
    late_px: float = 0.0


@dataclass(frozen=True)
class Tube:
    """A line's day. y: of its middle."""

    line_id: int
    name: str
    where: str
    how: str
    y: float
    bubbles: tuple[Bubble, ...]
    trouble: str = ""
    runs: bool = True


@dataclass(frozen=True)
class Day:
    """width, height: in pixels; hours: each with its place; now_x: where the clock stands, None on another day."""

    day: date
    width: int
    height: int
    hours: tuple[tuple[str, float], ...]
    now_x: float | None
    tubes: tuple[Tube, ...] = field(default=())

    @property
    def end_x(self) -> float:
        return self.width - RIGHT_PX


def place_of(at_s: float, day: date, width: int) -> float:
    """Where a time of a day lies, in pixels."""
    first, last = day_span(day)
    return LEFT_PX + (width - LEFT_PX - RIGHT_PX) * (at_s - first) / (last - first)


def hours_of(day: date, width: int) -> tuple[tuple[str, float], ...]:
    """Every second hour by the clock on the wall, and the end of the day."""
    _, last = day_span(day)
    marks = [
        (f"{hour:02}", place_of(datetime(day.year, day.month, day.day, hour).timestamp(), day, width))
        for hour in range(0, 24, 2)
    ]
    return (*marks, ("24", place_of(last, day, width)))


def kind_of(arrival: Any) -> str:
    """How an arrival is drawn: held, missing, limited, as it is, only looked at, under way, the same, gone."""
    if arrival.state == "published":
        return "limit" if arrival.figures.get("limiting_db", 0.0) >= LIMITED_FROM_DB else "ok"
    return {"noted": "ok", "whole": "going", "working": "going"}.get(arrival.state, str(arrival.state))


WORDS = {
    "ok": "as it is",
    "limit": "limited",
    "held": "held back",
    "missing": "nothing came",
    "going": "under way",
    "same": "the same as what is on air",
    "gone": "gone before it was taken",
    "noted": "looked at",
}


def bubble_of(arrival: Any, day: date, width: int) -> Bubble:
    kind = kind_of(arrival)
    x = place_of(arrival.arrived_at.timestamp(), day, width)
    late = arrival.is_late and arrival.expected_at is not None and kind != "missing"
    late_px = x - place_of(arrival.expected_at.timestamp(), day, width) if late else 0.0
    when = arrival.arrived_at.astimezone()
    label = f"{when:%H:%M:%S}, {arrival.name or 'nothing'}: {state_words(arrival)}"
    return Bubble(kind, x, label, arrival.id, late_px)


def state_words(arrival: Any) -> str:
    """What became of it, in a few words."""
    words = "looked at" if arrival.state == "noted" else WORDS[kind_of(arrival)]
    if arrival.state == "published":
        words = f"published{', limited' if kind_of(arrival) == 'limit' else ''}"
    return f"{words}, late" if arrival.is_late and arrival.state != "missing" else words


def expected_bubbles(times: Sequence[float], now_s: float, day: date, width: int) -> list[Bubble]:
    """Those of a day that are still to come."""
    return [
        Bubble("next", place_of(at, day, width), f"{datetime.fromtimestamp(at):%H:%M}, expected")
        for at in times
        if at > now_s
    ]


def day_words(day: date, today: date) -> str:
    """today, 28 November; yesterday, 27 November; Thursday, 26 November."""
    named = {today: "today", today - timedelta(days=1): "yesterday"}.get(day, f"{day:%A}")
    return f"{named}, {day.day} {day:%B}" + (f" {day.year}" if day.year != today.year else "")


def counts_words(arrivals: Sequence[Any]) -> str:
    """61 came in, 59 published, 2 held back."""
    came = sum(each.state not in ("missing", "gone") for each in arrivals)
    states = [each.state for each in arrivals]
    parts = [f"{came} came in", f"{states.count('published')} published"]
    parts += [f"{states.count('held')} held back"] if "held" in states else []
    late = sum(each.is_late and each.state != "missing" for each in arrivals)
    parts += [f"{late} late"] if late else []
    parts += [f"{states.count('missing')} did not come"] if "missing" in states else []
    return ", ".join(parts)


@dataclass(frozen=True)
class WaveSide:
    """One of both waveforms: a path, what is said of it, a place at its end where nothing sounds."""

    title: str
    said: str
    path: str
    silence: tuple[float, float, str] | None


WAVE_LEFT_PX, WAVE_HALF_PX, DEAD_AIR_FROM_S = 15, 34.0, 1.0


def wave_sides(figures: dict[str, Any], width: int) -> list[WaveSide]:
    """As it came and prepared, on one scale of time, so that what was cut is seen."""
    sides = [(title, figures[key]) for key, title in (("came", "As it came"), ("made", "Prepared")) if key in figures]
    longest_s = max((told["length_s"] for _, told in sides), default=0.0) or 1.0
    return [_wave_side(title, told, (width - 2 * WAVE_LEFT_PX) / longest_s) for title, told in sides]


def _wave_side(title: str, told: dict[str, Any], px_per_s: float) -> WaveSide:
    wave, length_s = told["wave"], told["length_s"]
    step = length_s * px_per_s / max(1, len(wave))
    drawn = [
        f"M{WAVE_LEFT_PX + (at + 0.5) * step:.1f} {-half:.1f}V{half:.1f}"
        for at, peak in enumerate(wave)
        for half in (max(0.5, min(1.0, peak) * WAVE_HALF_PX),)
    ]
    said = f"{level(told['lufs'])} LUFS · {length(length_s)}"
    tail_s = told.get("silence_tail_s") or 0.0
    silence = None
    if tail_s >= DEAD_AIR_FROM_S and tail_s < length_s:
        x = WAVE_LEFT_PX + (length_s - tail_s) * px_per_s
        silence = (x, tail_s * px_per_s, f"{tail_s:.1f} s of dead air")
    return WaveSide(title, said, "".join(drawn), silence)
