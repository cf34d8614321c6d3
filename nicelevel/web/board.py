"""The data of the board: one function for the page and for every part of it that is fetched again.

A row that is not looked at yet is an outline: its cells are planned when it comes near the view, drawn when shown.
"""

from collections.abc import Callable, Collection, Iterator, Sequence
from dataclasses import dataclass, replace

from nicelevel.core.errors import NiceLevelError
from nicelevel.core.plan.predict import after_plan
from nicelevel.core.plan.price import prices
from nicelevel.core.specs import Spec
from nicelevel.desk.channels import names_of_programmes
from nicelevel.desk.contents import contents_of
from nicelevel.desk.hearing_sheet import HearingSheet, sheet_of
from nicelevel.desk.planning import limited_of, plans_of, spec_at
from nicelevel.desk.prepared import load_prepared
from nicelevel.desk.proposals import proposals
from nicelevel.desk.roll import roll_of
from nicelevel.report.board_words import Miniature, draw_miniature
from nicelevel.report.curve import LoudnessDrawing, draw_loudness
from nicelevel.report.price_view import PriceDrawing, draw_price
from nicelevel.store.audio import AudioFolder
from nicelevel.store.deliverables import UNFINISHED
from nicelevel.store.models import Destination, Job, Source
from nicelevel.store.readings import load_reading
from nicelevel.store.specs import spec_of

from .board_rows import Cell, Row, RowMaker
from .questions import Question, questions_of

FIRST_ROWS, FIRST_OUTLINES = 24, 300
"""So many rows come with the page, more than a screen shows, and so many in all: it asks for the rest by itself."""


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


def _set_of(source: Source, maker: RowMaker, audio: AudioFolder) -> tuple[tuple[str, ...], tuple[Source, ...]]:
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
