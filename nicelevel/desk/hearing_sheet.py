"""What a page needs to play a source: its takes with their gains, the places worth hearing."""

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any, Protocol

from nicelevel.core.errors import NotFoundError
from nicelevel.core.hear import Stop, joins_of, matched_gains_db, real_gains_db, stops_of
from nicelevel.core.plan.predict import after_plan
from nicelevel.core.units import ratio_from_db
from nicelevel.core.values import Note, Place
from nicelevel.report.board_words import short_note
from nicelevel.report.words import level
from nicelevel.store.audio import AudioFolder
from nicelevel.store.models import Destination, Source
from nicelevel.store.readings import load_reading

from .contents import contents_of
from .hearing import Audible, landing_of, plan_at, takes_of
from .planning import limited_of
from .prepared import load_prepared
from .roll import with_neighbour_notes

HIGHEST_RATE_HZ, LOWEST_RATE_HZ = 192_000, 8_000
"""Rates that every browser plays."""


@dataclass(frozen=True)
class Heard:
    """A take as it is played: the gain at which it is as loud as the others, and the one that leaves differences."""

    take: Audible
    gain_db: float
    real_gain_db: float

    @property
    def gain_text(self) -> str:
        return f"{level(self.gain_db, signed=True)} dB"

    @property
    def real_gain_text(self) -> str:
        return f"{level(self.real_gain_db, signed=True)} dB"


class HasId(Protocol):
    """What is heard: a source, or what came through a line."""

    id: Any


@dataclass(frozen=True)
class HearingSheet:
    """rate_hz: that all takes are played at; the plan's own, so that it is heard as it would be written."""

    source: HasId
    destination: Destination | None
    rate_hz: int
    duration_s: float
    heard: tuple[Heard, ...]
    stops: tuple[tuple[float, str], ...]
    against: str | None = None

    @property
    def most_ratio(self) -> float:
        """The largest sample that may be played: what the source itself reaches, or full scale."""
        return ratio_from_db(min(0.0, self.heard[0].take.level.true_peak_dbtp))

    @property
    def shown(self) -> tuple[Heard, ...]:
        return tuple(each for each in self.heard if each.take.is_here)

    @property
    def others(self) -> tuple[Heard, ...]:
        return self.heard[len(self.shown) :]

    @property
    def pair(self) -> tuple[Heard, Heard] | None:
        """The source and what is compared with it first: another version where one is meant, what was written, the
        plan."""
        if self.against:
            return next(((self.heard[0], each) for each in self.heard if each.take.key == self.against), None)
        at_hand = self.shown if self.destination else self.heard
        here = [each for each in at_hand if each.take.kind in ("made", "plan")]
        made = next((each for each in here if each.take.kind == "made"), here[0] if here else None)
        return (self.heard[0], made) if made else None

    @property
    def plan(self) -> Heard | None:
        return next((each for each in self.shown if each.take.kind == "plan"), None)


def sheet_of(source: Source, destination: Destination | None, audio: AudioFolder) -> HearingSheet | None:
    """What is heard of a source, at a destination where one is given; None until it is measured."""
    if source.state != "measured":
        return None
    takes = takes_of(source, destination, audio)
    here = [each for each in takes if each.kind in ("made", "plan")] if destination else []
    rate_hz = playable_rate((here or takes)[0].rate_hz)
    levels = [each.level for each in takes]
    heard = tuple(map(Heard, takes, matched_gains_db(levels), real_gains_db(levels)))
    duration_s = max(each.duration_s for each in takes)
    return HearingSheet(source, destination, rate_hz, duration_s, heard, _stops(source, destination, audio))


def _stops(source: Source, destination: Destination | None, audio: AudioFolder) -> tuple[tuple[float, str], ...]:
    reading = with_neighbour_notes(source, load_reading(source.digest, audio), audio)
    plan = plan_at(source, destination, audio) if destination else None
    energies, reductions_db, notes = reading.curves.energies, None, reading.notes
    if plan:
        prepared = load_prepared(contents_of(source), plan.chain.recipe, audio)
        course = after_plan(prepared, plan, limited_of(source, plan, audio))
        energies, reductions_db = course.energies, course.reductions_db
        moved = plan.chain.timeline.places
        notes = tuple(replace(note, places=tuple(moved(note.places))) for note in notes)
    return tuple((each.at_s, _word(each)) for each in stops_of(energies, notes, reductions_db))


def _word(stop: Stop) -> str:
    if stop.kind == "limited":
        return f"limited by {level(stop.amount)} dB"
    if stop.kind in ("loudest", "quietest"):
        return f"{stop.kind} 3 s, {level(stop.amount)} LUFS"
    return short_note(Note(stop.kind, stop.sentence))


def joins_json(sources: Sequence[Source], destination: Destination, audio: AudioFolder) -> dict[str, Any]:
    """The joins of some sources as they land at a destination, in their order, none louder than it lands."""
    takes = [landing_of(each, destination, audio) for each in sources if each.state == "measured"]
    if len(takes) < 2:
        raise NotFoundError("A join needs two sources: this list has fewer that are measured.")
    rate_hz = playable_rate(takes[0].rate_hz)
    gain_db = min(0.0, *(-each.level.true_peak_dbtp for each in takes if not each.level.is_silent), 0.0)
    titles = [each.title for each in sources if each.state == "measured"]

    def part(number: int, place: Place) -> dict[str, Any]:
        take, (from_s, to_s) = takes[number], place
        address = f"/hear/{take.key}/{rate_hz}"
        facts = {"key": take.key, "address": address, "stamp": take.stamp, "gain_db": gain_db}
        return facts | {"from_s": from_s, "to_s": to_s}

    joins = [
        {
            "words": f"{titles[each.number]} into {titles[each.number + 1]}",
            "parts": [part(each.number, each.from_s), part(each.number + 1, each.into_s)],
        }
        for each in joins_of([each.duration_s for each in takes])
    ]
    return {"rate_hz": rate_hz, "joins": joins}


def playable_rate(rate_hz: int) -> int:
    return min(HIGHEST_RATE_HZ, max(LOWEST_RATE_HZ, rate_hz))
