"""The roll of a job: what its sources are to each other, and where each stands on the board.

It goes by names, dates and figures of all of them at once, and is asked for by every page: so it is made once and
remembered until one of the rows that it is made of is another.
"""

import threading
from collections.abc import Hashable, Mapping, Sequence
from dataclasses import dataclass

from nicelevel.core.values import Reading as Measured
from nicelevel.store.audio import AudioFolder
from nicelevel.store.database import database
from nicelevel.store.kept_sources import Row, as_source, kept_rows
from nicelevel.store.models import Source
from nicelevel.store.remembered import let_go
from nicelevel.store.sets import Proposal

from .neighbours import noted_readings
from .proposals import proposals
from .sides import AskedSides, asked_sides
from .versions import Standing, standings_of

FIRST_BY_ID = 1_000_000.0
"""Places that were given by hand lie before this."""

ROLLS_REMEMBERED = 16


@dataclass(frozen=True)
class Roll:
    """By the ids of sources: readings with the notes of their neighbours, how they stand among the versions of their
    titles, and places, by which rows are sorted. proposed, asked, newer: sets, sides and versions that nobody has
    decided on. lost: how many have to be measured again, and are left out meanwhile.
    """

    readings: Mapping[int, Measured]
    standings: Mapping[int, Standing]
    places: Mapping[int, str]
    proposed: tuple[Proposal, ...]
    asked: tuple[AskedSides, ...]
    newer: tuple[Source, ...]
    lost: int

    def group_of(self, source: Source) -> str:
        """What moves together: the versions of a title and their sets."""
        return self.places[source.id].partition("-")[0]


_rolls: dict[Hashable, tuple[Hashable, Roll]] = {}
_making: dict[Hashable, threading.Lock] = {}
"""Pages of one job that ask at once wait for one roll: side by side each would take as long as all. Other jobs wait
for none."""


def roll_of(job_id: int, audio: AudioFolder) -> Roll:
    """The roll of a job."""
    return roll_by(kept_rows(job_id), job_id, audio)


def roll_by(rows: Sequence[Row], job_id: int, audio: AudioFolder) -> Roll:
    """The roll of a job by the rows of its sources as they were just read."""
    whose, state = (database.database, job_id, audio), tuple(_what_matters(each) for each in rows)
    with _making.setdefault(whose, threading.Lock()):
        known = _rolls.pop(whose, None)
        roll = known[1] if known and known[0] == state else _make([as_source(row) for row in rows], audio)
        if not roll.lost:
            _rolls[whose] = state, roll
    let_go(_rolls, ROLLS_REMEMBERED)
    return roll


def with_neighbour_notes(source: Source, reading: Measured, audio: AudioFolder) -> Measured:
    """A reading of a source with the notes that its neighbours give it."""
    noted = roll_of(source.job_id, audio).readings.get(source.id)
    return reading.with_notes((*reading.notes, *noted.notes[len(reading.notes) :])) if noted else reading


def counting_sources(job_id: int, audio: AudioFolder) -> list[Source]:
    """The sources of a job without older versions of a title."""
    rows = kept_rows(job_id)
    standings = roll_by(rows, job_id, audio).standings
    sources = (as_source(row) for row in rows)
    return [each for each in sources if each.id not in standings or standings[each.id].counts]


def _what_matters(row: Row) -> Hashable:
    """Of a source that is not measured its place alone: how far its measuring is changes nothing for the others."""
    columns = row.columns
    if columns["state"] == "measured":
        return row.version
    return columns["id"], columns["leader"], columns["place"]


def _make(sources: Sequence[Source], audio: AudioFolder) -> Roll:
    measured = [each for each in sources if each.state == "measured"]
    readings = noted_readings(measured, audio)
    known = [each for each in measured if each.id in readings]
    standings = standings_of(known, audio)
    proposed = proposals(known, audio, standings=standings)
    asked = asked_sides(known, audio, standings, proposed)
    places = _places(sources, standings)
    newer = sorted(
        (each for each in known if each.id in standings and standings[each.id].is_unasked),
        key=lambda each: places[each.id],
    )
    lost = len(measured) - len(known)
    return Roll(readings, standings, places, tuple(proposed), tuple(asked), tuple(newer), lost)


def _places(sources: Sequence[Source], standings: Mapping[int, Standing]) -> dict[int, str]:
    """By the versions of its title, the newest first, members of a set after their leader."""
    # What was not put anywhere by hand stands behind, in the order it came in.
    by_hand = {each.id: FIRST_BY_ID + each.id if each.place is None else each.place for each in sources}

    def place_of(source: Source) -> str:
        leader_id = source.leader_id or source.id
        standing = standings.get(leader_id)
        rank = standing.versions.index(leader_id) if standing else 0
        first = min(
            by_hand.get(each, FIRST_BY_ID + each) for each in (standing.versions if standing else (leader_id,))
        )
        member = source.leader_id is not None
        return f"{first:015.3f}-{rank:03d}-{leader_id:010d}-{member:d}-{by_hand[source.id]:015.3f}-{source.id:010d}"

    return {each.id: place_of(each) for each in sources}
