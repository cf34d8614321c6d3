"""The data of the board: one function for the page and for every part of it that is fetched again.

A row that is not looked at yet is an outline: its cells are planned when it comes near the view, drawn when shown.
"""

from collections.abc import Callable, Collection, Iterator, Sequence
from dataclasses import dataclass, replace
from functools import cached_property, lru_cache

from nicelevel.core.errors import LostError, NiceLevelError, NotPreparedError
from nicelevel.core.plan.predict import after_plan
from nicelevel.core.plan.price import prices
from nicelevel.core.specs import Spec
from nicelevel.core.specs.format_words import source_words
from nicelevel.core.specs.retarget import with_target
from nicelevel.core.values import Plan
from nicelevel.core.values import Reading as Measured
from nicelevel.desk.channels import names_of_programmes
from nicelevel.desk.contents import contents_of, described_of
from nicelevel.desk.current import is_as_planned, is_of_present_spec
from nicelevel.desk.hearing_sheet import HearingSheet, sheet_of
from nicelevel.desk.planning import limited_of, plans_of, spec_at, with_level_of_speech
from nicelevel.desk.prepared import PreparationFailedError, load_prepared
from nicelevel.desk.proposals import proposals
from nicelevel.desk.roll import roll_by, roll_of
from nicelevel.desk.versions import Standing
from nicelevel.report.board_words import Miniature, draw_miniature
from nicelevel.report.curve import LoudnessDrawing, draw_loudness, draw_thumbnail
from nicelevel.report.price_view import PriceDrawing, draw_price
from nicelevel.report.vial import Seal, Vial, draw_vial
from nicelevel.store.audio import AudioFolder
from nicelevel.store.deliverables import UNFINISHED, deliverables_of
from nicelevel.store.depot import DepotAwayError
from nicelevel.store.jobs import destinations_of
from nicelevel.store.kept_sources import as_source, kept_rows
from nicelevel.store.models import Deliverable, Destination, Job, Source
from nicelevel.store.own_targets import own_targets_of
from nicelevel.store.readings import load_reading
from nicelevel.store.sources import UNMEASURED
from nicelevel.store.specs import spec_of

from .questions import Question, questions_of

FIRST_ROWS, FIRST_OUTLINES = 24, 300
"""So many rows come with the page, more than a screen shows, and so many in all: it asks for the rest by itself."""


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


@dataclass(frozen=True)
class CloseUp:
    """A row with one cell, what is drawn of it and what can be heard; no drawing where there is no plan.

    apart: the programmes that lie in the file side by side, where it was not taken apart yet.
    """

    row: Row
    cell: Cell
    drawing: LoudnessDrawing | None
    sheet: HearingSheet | None
    linked: tuple[str, ...]
    proposed: tuple[Source, ...]
    apart: tuple[str, ...]


@dataclass(frozen=True)
class Summary:
    """What the bar over the board says: of places, source by destination; unfinished: of files."""

    sources: int
    destinations: int
    landing: int
    limiting: int
    unmet: int
    unfinished: int
    proved: int
    failed: int
    renderable: int


@dataclass(frozen=True)
class Counted:
    """What is counted over all rows of a board; miniatures: each destination in one small vial."""

    summary: Summary
    miniatures: tuple[Miniature, ...]


@dataclass(frozen=True)
class Board:
    """summary: None where there are outlines, for it needs every plan."""

    job: Job
    destinations: tuple[tuple[Destination, Spec], ...]
    rows: tuple[Row, ...]
    summary: Summary | None
    questions: tuple[Question, ...] = ()

    @property
    def has_sources(self) -> bool:
        return bool(self.rows or (self.summary and self.summary.sources))

    @property
    def first_rows(self) -> tuple[Row, ...]:
        return self.rows[:FIRST_OUTLINES]

    @property
    def held(self) -> frozenset[int]:
        """Ids of sources that are not rendered before a question is answered."""
        return frozenset[int]().union(*(each.held for each in self.questions))


def board_of(job: Job, audio: AudioFolder, whole: Collection[int] | None = None) -> Board:
    """Everything that the board of a job shows.

    whole: ids of sources whose rows are more than outlines, as are the first ones and other versions of their titles;
    None: all.
    """
    maker = RowMaker(job.id, audio)
    outlines = [maker.outline(source) for source in maker.sources]
    in_whole = {
        each.source.id for at, each in enumerate(outlines) if whole is None or at < FIRST_ROWS or each.concerns(whole)
    }
    maker.look_up(None if whole is None else in_whole)
    rows = [maker.row(each.source) if each.source.id in in_whole else each for each in outlines]
    specs = tuple((destination, spec_of(destination.spec)) for destination in maker.destinations)
    has_outlines = any(row.is_outline for row in rows)
    summary = None if has_outlines else _summary(rows, len(specs))
    return Board(job, specs, tuple(rows), summary, questions_of(maker.roll))


def bar_of(job: Job, counted: Counted, audio: AudioFolder) -> Board:
    """Of a board what stands over its rows, without these."""
    return Board(job, (), (), counted.summary, questions_of(roll_of(job.id, audio)))


def counted_of(job_id: int, audio: AudioFolder, pause: Callable[[], None]) -> Counted:
    """Counts over all rows of a job, which need every plan. pause: called between rows."""
    maker, rows = RowMaker(job_id, audio), list[Row]()
    maker.look_up(None)
    for source in maker.sources:
        rows.append(maker.row(source))
        pause()
    specs = [spec_of(each.spec) for each in maker.destinations]
    return Counted(_summary(rows, len(specs)), _miniatures(rows, specs))


def moved(source: Source, up: bool, audio: AudioFolder) -> list[int] | None:
    """The order of a board with a source, and all that stands with it, one place higher or lower; None at the end."""
    maker = RowMaker(source.job_id, audio)
    groups: dict[str, list[int]] = {}
    for each in maker.sources:
        groups.setdefault(maker.roll.group_of(each), []).append(each.id)
    order = list(groups)
    here = order.index(maker.roll.group_of(next(each for each in maker.sources if each.id == source.id)))
    other = here + (-1 if up else 1)
    if not 0 <= other < len(order):
        return None
    order[here], order[other] = order[other], order[here]
    return [key for group in order for key in groups[group]]


def column_of(job: Job, destination: Destination, wanted: Sequence[int], audio: AudioFolder) -> list[Row]:
    """Rows of the sources asked for with one destination alone, in the order asked for."""
    maker = RowMaker(job.id, audio, [destination])
    sources = {source.id: source for source in maker.sources}
    maker.look_up(set(wanted))
    return [maker.row(sources[key]) for key in wanted if key in sources]


def _miniatures(rows: Sequence[Row], specs: Sequence[Spec]) -> tuple[Miniature, ...]:
    columns = zip(specs, zip(*(row.cells for row in rows), strict=True), strict=False)
    return tuple(
        draw_miniature(
            spec.spec.name,
            [cell.plan for cell in cells if not cell.is_older],
            sum(cell.state == "proved" for cell in cells),
        )
        for spec, cells in columns
    )


def close_up_of(source: Source, destination: Destination, audio: AudioFolder, width: int, height: int) -> CloseUp:
    """One source at one destination, drawn into a field of so many pixels."""
    maker = RowMaker(source.job_id, audio, [destination])
    maker.look_up({source.id})
    row = maker.row(source)
    cell, drawing = row.cells[0], None
    try:
        drawing = _draw(source, cell, audio, width, height) if cell.plan else None
    except NiceLevelError as error:
        cell = replace(cell, problem=error.message)
    linked, proposed = _set_of(source, maker, audio)
    sheet = sheet_of(source, destination, audio)
    return CloseUp(row, cell, drawing, sheet, linked, proposed, names_of_programmes(source, audio))


def _draw(source: Source, cell: Cell, audio: AudioFolder, width: int, height: int) -> LoudnessDrawing:
    assert cell.plan
    prepared = load_prepared(contents_of(source), cell.plan.chain.recipe, audio)
    after = after_plan(prepared, cell.plan, limited_of(source, cell.plan, audio))
    return draw_loudness(load_reading(source.digest, audio), after, cell.spec, width, height)


def _set_of(source: Source, maker: "RowMaker", audio: AudioFolder) -> tuple[tuple[str, ...], tuple[Source, ...]]:
    """Titles of the others in the set of a source, and where it is in none, those that it could lead."""
    others = {each.id: each for each in maker.sources if each.id != source.id}
    leader_id = source.leader_id or source.id
    linked = tuple(each.title for each in others.values() if leader_id in (each.id, each.leader_id))
    known = [each for each in others.values() if each.id in maker.roll.readings]
    if linked or source.id not in maker.roll.readings:
        return linked, ()
    proposed = proposals([source, *known], audio, also_answered=True, standings=maker.roll.standings)
    return (), next((each.members for each in proposed if each.leader.id == source.id), ())


def price_of(source: Source, destination: Destination, audio: AudioFolder) -> PriceDrawing | None:
    """The price curve of one source at one destination; None where there is no plan or nothing to limit for."""
    spec = spec_at(source, destination)
    try:
        plan = plans_of(source, spec, audio)[0].shown
        prepared = load_prepared(contents_of(source), plan.chain.recipe, audio)
    except NiceLevelError:
        return None
    if source.leader_id is not None:
        return None
    return draw_price(prices(prepared, spec, plan.output), spec, plan)


def places_to_render(
    board: Board, source_ids: Collection[int], destination_id: int | None
) -> list[tuple[Source, Destination]]:
    """Every place that lands and is not proved yet; of sources that are asked for, also what is proved.

    A sum that was made to level a set by is rendered only where it is asked for.
    """
    return [
        (row.source, cell.destination)
        for row, cell in _asked_for(board, source_ids, destination_id)
        if cell.can_render or (source_ids and cell.state == "proved")
    ]


def count_coming(board: Board, source_ids: Collection[int], destination_id: int | None) -> int:
    """How many of the places that are asked for have no plan yet, and so cannot be rendered now."""
    asked = _asked_for(board, source_ids, destination_id)
    return sum(cell.is_coming and not cell.is_older for _, cell in asked)


def _asked_for(board: Board, source_ids: Collection[int], destination_id: int | None) -> Iterator[tuple[Row, Cell]]:
    for row in board.rows:
        if row.source.id in source_ids if source_ids else row.source.kind != "sum":
            yield from ((row, cell) for cell in row.cells if destination_id in (None, cell.destination.id))


def _by_place(deliverables: Sequence[Deliverable]) -> dict[tuple[int, int], tuple[Deliverable, ...]]:
    """By source and destination, what was made for the present version of its spec."""
    places: dict[tuple[int, int], tuple[Deliverable, ...]] = {}
    for deliverable in deliverables:
        if not is_of_present_spec(deliverable):
            continue
        place = (deliverable.source_id, deliverable.destination_id)
        places[place] = (*places.get(place, ()), deliverable)
    return places


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


def _seal(made: tuple[Deliverable, ...]) -> Seal:
    states = {deliverable.state for deliverable in made}
    if "missed" in states:
        return "missed"
    return "proved" if states == {"proved"} else None


@lru_cache(maxsize=4096)
def thumbnail_of(digest: str, audio: AudioFolder) -> str:
    return draw_thumbnail(audio.load_curves(digest).peaks)


def _summary(rows: Sequence[Row], destinations: int) -> Summary:
    cells = [cell for row in rows for cell in row.cells if not cell.is_older]
    actions = [cell.plan.action if cell.plan else None for cell in cells]
    states = [deliverable.state for cell in cells for deliverable in cell.deliverables]
    places = [cell.state for cell in cells]
    return Summary(
        sources=sum(not row.is_older for row in rows),
        destinations=destinations,
        landing=actions.count("as_is") + actions.count("gain"),
        limiting=actions.count("limit"),
        unmet=actions.count("cannot_meet"),
        unfinished=sum(states.count(state) for state in UNFINISHED),
        proved=places.count("proved"),
        failed=places.count("failed") + places.count("missed"),
        renderable=sum(cell.can_render for row in rows if row.source.kind != "sum" for cell in row.cells),
    )
