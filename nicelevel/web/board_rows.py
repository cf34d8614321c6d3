"""The rows of a board and their cells: what is planned of a source at each destination, and what became of it."""

from collections.abc import Collection, Sequence
from dataclasses import dataclass, replace
from functools import cached_property, lru_cache

from nicelevel.core.errors import LostError, NiceLevelError, NotPreparedError
from nicelevel.core.specs import Spec
from nicelevel.core.specs.format_words import source_words
from nicelevel.core.specs.retarget import with_target
from nicelevel.core.values import Plan
from nicelevel.core.values import Reading as Measured
from nicelevel.desk.contents import contents_of, described_of
from nicelevel.desk.current import is_as_planned, is_of_present_spec
from nicelevel.desk.planning import plans_of, with_level_of_speech
from nicelevel.desk.prepared import PreparationFailedError, load_prepared
from nicelevel.desk.roll import roll_by
from nicelevel.desk.versions import Standing
from nicelevel.report.curve import draw_thumbnail
from nicelevel.report.vial import Seal, Vial, draw_vial
from nicelevel.store.audio import AudioFolder
from nicelevel.store.deliverables import UNFINISHED, deliverables_of
from nicelevel.store.depot import DepotAwayError
from nicelevel.store.jobs import destinations_of
from nicelevel.store.kept_sources import as_source, kept_rows
from nicelevel.store.models import Deliverable, Destination, Source
from nicelevel.store.own_targets import own_targets_of
from nicelevel.store.sources import UNMEASURED
from nicelevel.store.specs import spec_of


@dataclass(frozen=True)
class CellFile:
    """One of the files that a source becomes at a destination: its plan, and what became of it."""

    plan: Plan
    made: Deliverable | None

    @property
    def words(self) -> str:
        channel = f", {self.plan.output.channel_name}" if self.plan.output.channel_name else ""
        return source_words(self.plan.predicted.source) + channel


@dataclass(frozen=True)
class Cell:
    """One source at one destination: its plan, or why there is none, and what became of it.

    can_retry: what failed may be done again as it is; is_coming: what a plan is made from is being made, or lies in a
    storage that is away; wanted: how many files are to be written; files: each of them.
    """

    source_id: int
    destination: Destination
    spec: Spec
    reading: Measured | None = None
    plan: Plan | None = None
    problem: str | None = None
    can_retry: bool = False
    is_coming: bool = False
    wanted: int = 1
    files: tuple[CellFile, ...] = ()
    deliverables: tuple[Deliverable, ...] = ()
    own_target: float | None = None
    is_older: bool = False

    @cached_property
    def vial(self) -> Vial | None:
        if self.reading is None or self.plan is None:
            return None
        seal = _seal(self.deliverables)
        return draw_vial(self.reading, self.plan, self.spec, self.deliverables[0].measured if seal else None, seal)

    @property
    def state(self) -> str:
        """What the cell shows: a state of its deliverables where there are any, else the action of its plan."""
        if self.is_older:
            return "older"
        states = [deliverable.state for deliverable in self.deliverables]
        for state in ("rendering", "queued", "failed", "missed", "stopped"):
            if state in states:
                return state
        if states and len(states) >= self.wanted:
            return "proved"
        if self.is_reference:
            return "reference"
        return self.plan.action if self.plan else "no_plan"

    @property
    def progress_ratio(self) -> float:
        return sum(each.progress_ratio for each in self.deliverables) / max(1, len(self.deliverables))

    @property
    def is_reference(self) -> bool:
        """Whether the others are brought to this one, which is written as it is and handed over too."""
        return self.destination.reference_id is not None and self.destination.reference_id == self.source_id

    @property
    def can_render(self) -> bool:
        done = self.state in ("proved", "older", *UNFINISHED)
        return self.plan is not None and self.plan.action != "cannot_meet" and not done


@dataclass(frozen=True)
class Row:
    """One source with its reading and its cells; an outline has neither."""

    source: Source
    reading: Measured | None
    cells: tuple[Cell, ...]
    standing: Standing | None
    place: str
    is_outline: bool
    audio: AudioFolder

    @cached_property
    def thumbnail(self) -> str:
        try:
            return thumbnail_of(self.source.digest, self.audio)
        except LostError:
            return ""

    @property
    def is_older(self) -> bool:
        return self.standing is not None and not self.standing.counts

    def concerns(self, asked: Collection[int]) -> bool:
        """Whether it is a row of these sources, or of another version of their titles."""
        return any(key in asked for key in (self.standing.versions if self.standing else (self.source.id,)))


class RowMaker:
    """Makes the rows of a job from what is looked up once for all of them."""

    def __init__(self, job_id: int, audio: AudioFolder, destinations: Sequence[Destination] | None = None) -> None:
        self._audio = audio
        rows = kept_rows(job_id)
        self.roll = roll_by(rows, job_id, audio)
        self.sources = sorted(map(as_source, rows), key=lambda source: self.roll.places[source.id])
        self.destinations = destinations_of(job_id) if destinations is None else destinations
        self._job_id, self._made = job_id, dict[tuple[int, int], tuple[Deliverable, ...]]()
        self._own = own_targets_of(job_id)

    def look_up(self, source_ids: Collection[int] | None) -> None:
        """What was made of the sources whose rows are to be made; None for all."""
        self._made = _by_place(deliverables_of(self._job_id, source_ids=source_ids))

    def outline(self, source: Source) -> Row:
        standing, place = self.roll.standings.get(source.id), self.roll.places.get(source.id, "")
        return Row(source, None, (), standing, place, True, self._audio)

    def row(self, source: Source) -> Row:
        outline, reading = self.outline(source), self._reading(source)
        cells = tuple(self._cell(source, reading, each, outline.is_older) for each in self.destinations)
        return replace(outline, reading=reading, cells=cells, is_outline=False)

    def _reading(self, source: Source) -> Measured | None:
        """Of what its recipe makes of a source, once that is measured; until then, and without one, as it came."""
        came, contents = self.roll.readings.get(source.id), contents_of(source)
        if came is None or not contents.recipe:
            return came
        try:
            prepared = load_prepared(contents, contents.recipe, self._audio).reading
            return replace(prepared, source=described_of(contents, self._audio))
        except NiceLevelError:
            return came

    def _cell(self, source: Source, reading: Measured | None, destination: Destination, is_older: bool) -> Cell:
        own = self._own.get((source.leader_id or source.id, destination.id))
        spec = with_target(spec_of(destination.spec), own)
        cell = Cell(source.id, destination, spec, reading, own_target=own, is_older=is_older)
        if reading is None:
            return replace(cell, is_coming=source.state in UNMEASURED)
        made = self._made.get((source.id, destination.id), ())
        try:
            plans = plans_of(source, spec, self._audio)
        except NiceLevelError as error:
            can_retry = isinstance(error, PreparationFailedError)
            is_coming = isinstance(error, (NotPreparedError, DepotAwayError)) and not can_retry
            return replace(cell, problem=error.message, can_retry=can_retry, is_coming=is_coming, deliverables=made)
        current = tuple(each for each in made if is_as_planned(each, plans))
        wanted = sum(plan.action != "cannot_meet" for plan in plans)
        by_output = {each.output: each for each in current}
        files = tuple(CellFile(plan, by_output.get(plan.output.key)) for plan in plans)
        shown = plans[0].shown
        cell = replace(cell, reading=with_level_of_speech(reading, contents_of(source), shown, self._audio))
        return replace(cell, plan=shown, wanted=wanted, files=files, deliverables=current)


def _by_place(deliverables: Sequence[Deliverable]) -> dict[tuple[int, int], tuple[Deliverable, ...]]:
    """By source and destination, what was made for the present version of its spec."""
    places: dict[tuple[int, int], tuple[Deliverable, ...]] = {}
    for deliverable in deliverables:
        if not is_of_present_spec(deliverable):
            continue
        place = (deliverable.source_id, deliverable.destination_id)
        places[place] = (*places.get(place, ()), deliverable)
    return places


def _seal(made: tuple[Deliverable, ...]) -> Seal:
    states = {deliverable.state for deliverable in made}
    if "missed" in states:
        return "missed"
    return "proved" if states == {"proved"} else None


@lru_cache(maxsize=4096)
def thumbnail_of(digest: str, audio: AudioFolder) -> str:
    return draw_thumbnail(audio.load_curves(digest).peaks)
