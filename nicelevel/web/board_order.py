"""The order of a board's rows, and which of them say what is asked for."""

from nicelevel.report.board_words import short_note
from nicelevel.report.words import length, rate

from .board import Board
from .board_rows import Row

_FIGURES = {"integrated": "integrated_lufs", "range": "loudness_range_lu", "peak": "true_peak_dbtp"}
_PLACE = "place-"


def in_order(board: Board, key: str, is_down: bool, words: str) -> list[int]:
    """Ids of the sources of a board that say all of the words, in an order.

    key: title, integrated, range, peak, `place-` and the id of a destination for the gain there; anything else: the
    order of the board. What has no value stands last, whichever way the others go.
    """
    wanted = words.lower().split()
    rows = [row for row in board.rows if all(word in _said(row) for word in wanted)]
    if key == "title":
        rows.sort(key=lambda row: row.source.title.casefold(), reverse=is_down)
    elif key in _FIGURES or key.startswith(_PLACE):
        valued = [(row, _value(row, key)) for row in rows]
        known = sorted(
            ((row, value) for row, value in valued if value is not None), key=lambda pair: pair[1], reverse=is_down
        )
        rows = [row for row, _ in known] + [row for row, value in valued if value is None]
    return [row.source.id for row in rows]


def _value(row: Row, key: str) -> float | None:
    if key.startswith(_PLACE):
        plans = [cell.plan for cell in row.cells if f"{_PLACE}{cell.destination.id}" == key]
        return plans[0].gain_db if plans and plans[0] else None
    return getattr(row.reading, _FIGURES[key]) if row.reading else None


def _said(row: Row) -> str:
    """All that a row says in words: name, format, notes, states."""
    source, reading = row.source, row.reading
    said = [source.title, source.file_name, source.state, source.error_message or ""]
    if reading:
        said += [reading.source.layout.name, rate(reading.source.sample_rate_hz), length(reading.source.duration_s)]
        said += [short_note(note) for note in reading.notes]
    said += [cell.state.replace("_", " ") for cell in row.cells]
    return " ".join(said).lower()
