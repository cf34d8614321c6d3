"""The data of the board: one function for the page and for every part of it that is fetched again."""

from collections.abc import Sequence
from dataclasses import dataclass
from functools import lru_cache

from nicelevel.core.errors import NiceLevelError
from nicelevel.core.plan.formats import not_yet
from nicelevel.core.plan.predict import after_plan
from nicelevel.core.plan.price import prices
from nicelevel.core.specs import Spec
from nicelevel.core.values import Plan
from nicelevel.core.values import Reading as Measured
from nicelevel.report.board_words import Miniature, draw_miniature
from nicelevel.report.curve import LoudnessDrawing, draw_loudness, draw_thumbnail
from nicelevel.report.price_view import PriceDrawing, draw_price
from nicelevel.report.vial import Seal, Vial, draw_vial
from nicelevel.store.audio import AudioFolder
from nicelevel.store.deliverables import UNFINISHED, deliverables_of
from nicelevel.store.jobs import destinations_of
from nicelevel.store.models import Deliverable, Destination, Job, Source
from nicelevel.store.neighbours import noted_readings, with_neighbour_notes
from nicelevel.store.own_targets import own_target_of, own_targets_of, with_target
from nicelevel.store.planning import limited_of, plans_of, sets_proposed
from nicelevel.store.prepared import load_prepared
from nicelevel.store.readings import load_figures, load_reading
from nicelevel.store.sources import sources_of
from nicelevel.store.specs import spec_of

SAME_GAIN_DB = 0.005


@dataclass(frozen=True)
class Cell:
    """One source at one destination: its plan, or why there is none, and what became of it."""

    destination: Destination
    spec: Spec
    plan: Plan | None
    problem: str | None
    vial: Vial | None
    deliverables: tuple[Deliverable, ...]
    source_id: int
    own_target: float | None = None

    @property
    def state(self) -> str:
        """What the cell shows: a state of its deliverables where there are any, else the action of its plan."""
        if self.is_reference:
            return "reference"
        states = [deliverable.state for deliverable in self.deliverables]
        for state in ("rendering", "queued", "failed", "missed", "stopped", "proved"):
            if state in states:
                return state
        return self.plan.action if self.plan else "no_plan"

    @property
    def progress_ratio(self) -> float:
        return sum(each.progress_ratio for each in self.deliverables) / max(1, len(self.deliverables))

    @property
    def is_reference(self) -> bool:
        """Whether the others are brought to this one, which is left as it is."""
        return self.destination.reference_id is not None and self.destination.reference_id == self.source_id

    @property
    def can_render(self) -> bool:
        done = self.state in ("proved", *UNFINISHED)
        if self.plan is None or self.plan.action == "cannot_meet" or done or self.is_reference:
            return False
        return not_yet(self.plan.output, self.spec) is None


@dataclass(frozen=True)
class Row:
    """One source with its reading and its cells."""

    source: Source
    reading: Measured | None
    thumbnail: str
    cells: tuple[Cell, ...]


@dataclass(frozen=True)
class CloseUp:
    """A row with one cell and what is drawn of it; no drawing where there is no plan."""

    row: Row
    cell: Cell
    drawing: LoudnessDrawing | None
    linked: tuple[str, ...]
    proposed: tuple[Source, ...]


@dataclass(frozen=True)
class Summary:
    """What the bar over the board says."""

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
class Board:
    job: Job
    destinations: tuple[tuple[Destination, Spec], ...]
    rows: tuple[Row, ...]
    summary: Summary


def board_of(job: Job, audio: AudioFolder) -> Board:
    """Everything that the board of a job shows."""
    destinations = destinations_of(job.id)
    made = _by_place(deliverables_of(job.id))
    sources = sources_of(job.id)
    readings = noted_readings([source for source in sources if source.state == "measured"], audio)
    own = own_targets_of(job.id)
    rows = tuple(_row(source, readings.get(source.id), destinations, made, own, audio) for source in sources)
    specs = tuple((destination, spec_of(destination.spec)) for destination in destinations)
    return Board(job, specs, rows, _summary(rows, len(destinations)))


def miniatures(board: Board) -> list[Miniature]:
    """Each destination of a job in one small vial."""
    columns = zip(board.destinations, zip(*(row.cells for row in board.rows), strict=True), strict=False)
    return [
        draw_miniature(spec.spec.name, [cell.plan for cell in cells], sum(cell.state == "proved" for cell in cells))
        for (_, spec), cells in columns
    ]


def close_up_of(source: Source, destination: Destination, audio: AudioFolder, width: int, height: int) -> CloseUp:
    """One source at one destination, drawn into a field of so many pixels."""
    made = _by_place(deliverables_of(source.job_id))
    measured = source.state == "measured"
    noted = with_neighbour_notes(source, load_figures(source.digest, audio), audio) if measured else None
    row = _row(source, noted, [destination], made, own_targets_of(source.job_id), audio)
    cell, drawing = row.cells[0], None
    if cell.plan:
        drawing = draw_loudness(
            load_reading(source.digest, audio),
            after_plan(
                load_prepared(source.digest, cell.plan.preparation, audio),
                cell.plan,
                limited_of(source, cell.plan, audio),
            ),
            cell.spec,
            width,
            height,
        )
    return CloseUp(row, cell, drawing, *_set_of(source, audio))


def _set_of(source: Source, audio: AudioFolder) -> tuple[tuple[str, ...], tuple[Source, ...]]:
    """Titles of the others in the set of a source, and where it is in none, those that it could lead."""
    others = {each.id: each for each in sources_of(source.job_id) if each.id != source.id}
    leader_id = source.leader_id or source.id
    linked = tuple(each.title for each in others.values() if leader_id in (each.id, each.leader_id))
    if linked or source.state != "measured":
        return linked, ()
    proposed = sets_proposed([source, *others.values()], audio)
    members = next((each.members for each in proposed if each.leader == source.id), ())
    return (), tuple(others[int(key)] for key in members)


def price_of(source: Source, destination: Destination, audio: AudioFolder) -> PriceDrawing | None:
    """The price curve of one source at one destination; None where there is no plan or nothing to limit for."""
    spec = with_target(spec_of(destination.spec), own_target_of(source, destination))
    try:
        plan = plans_of(source, spec, audio)[0]
    except NiceLevelError:
        return None
    if source.leader_id is not None:
        return None
    prepared = load_prepared(source.digest, plan.preparation, audio)
    return draw_price(prices(prepared, spec, plan.output), spec, plan)


def places_to_render(
    board: Board, source_id: int | None, destination_id: int | None
) -> list[tuple[Source, Destination]]:
    """Every place that lands and is not proved yet; of one source that is asked for, also what is proved."""
    return [
        (row.source, cell.destination)
        for row in board.rows
        for cell in row.cells
        if source_id in (None, row.source.id) and destination_id in (None, cell.destination.id)
        if cell.can_render or (source_id and cell.state == "proved")
    ]


def _by_place(deliverables: Sequence[Deliverable]) -> dict[tuple[int, int], tuple[Deliverable, ...]]:
    """By source and destination, what was made for the present version of its spec."""
    places: dict[tuple[int, int], tuple[Deliverable, ...]] = {}
    for deliverable in deliverables:
        if deliverable.spec_id != deliverable.destination.spec_id:
            continue
        place = (deliverable.source_id, deliverable.destination_id)
        places[place] = (*places.get(place, ()), deliverable)
    return places


def _row(
    source: Source,
    reading: Measured | None,
    destinations: Sequence[Destination],
    made: dict[tuple[int, int], tuple[Deliverable, ...]],
    own: dict[tuple[int, int], float],
    audio: AudioFolder,
) -> Row:
    if reading is None:
        return Row(
            source,
            None,
            "",
            tuple(Cell(each, spec_of(each.spec), None, None, None, (), source.id) for each in destinations),
        )
    leader_id = source.leader_id or source.id
    cells = tuple(
        _cell(reading, source, each, made.get((source.id, each.id), ()), own.get((leader_id, each.id)), audio)
        for each in destinations
    )
    return Row(source, reading, thumbnail_of(source.digest, audio), cells)


def _cell(
    reading: Measured,
    source: Source,
    destination: Destination,
    made: tuple[Deliverable, ...],
    own: float | None,
    audio: AudioFolder,
) -> Cell:
    spec = with_target(spec_of(destination.spec), own)
    try:
        plan = plans_of(source, spec, audio)[0]
    except NiceLevelError as error:
        return Cell(destination, spec, None, error.message, None, made, source.id, own)
    made = tuple(each for each in made if _still_planned(each, plan))
    seal = _seal(made)
    vial = draw_vial(reading, plan, spec, made[0].measured if seal else None, seal)
    return Cell(destination, spec, plan, None, vial, made, source.id, own)


def _still_planned(made: Deliverable, plan: Plan) -> bool:
    """Whether what was written has the gain that is planned now: a source that joined a set has another."""
    return made.plan is None or abs(made.plan["gain_db"] - plan.gain_db) < SAME_GAIN_DB


def _seal(made: tuple[Deliverable, ...]) -> Seal:
    states = {deliverable.state for deliverable in made}
    if "missed" in states:
        return "missed"
    return "proved" if states == {"proved"} else None


@lru_cache(maxsize=4096)
def thumbnail_of(digest: str, audio: AudioFolder) -> str:
    return draw_thumbnail(audio.load_curves(digest).peaks)


def _summary(rows: Sequence[Row], destinations: int) -> Summary:
    cells = [cell for row in rows for cell in row.cells]
    actions = [cell.plan.action if cell.plan and not cell.is_reference else None for cell in cells]
    states = [deliverable.state for cell in cells for deliverable in cell.deliverables]
    return Summary(
        sources=len(rows),
        destinations=destinations,
        landing=actions.count("as_is") + actions.count("gain"),
        limiting=actions.count("limit"),
        unmet=actions.count("cannot_meet"),
        unfinished=sum(states.count(state) for state in UNFINISHED),
        proved=states.count("proved"),
        failed=states.count("failed") + states.count("missed"),
        renderable=sum(cell.can_render for cell in cells),
    )
