"""What pages show, as JSON for programs that ask for it: the same data, shaped once."""

from collections.abc import Mapping, Sequence
from datetime import datetime
from typing import Any

from flask import request

from nicelevel.desk.client_links import holds
from nicelevel.report.as_json import one_plan_json, reading_json, spec_json
from nicelevel.store.client_links import answers_of
from nicelevel.store.door_models import ClientLink, JournalEntry
from nicelevel.store.models import Arrival, Deliverable, Job, Line
from nicelevel.store.recipes import KnownRecipe
from nicelevel.store.specs import Known

from .board import Board
from .board_rows import Cell, Row

Json = dict[str, Any]


def wants_json() -> bool:
    """Whether a program asks: a browser, or who does not say, gets the page."""
    accepted = request.accept_mimetypes
    return bool(accepted["application/json"] > accepted["text/html"])


def wants_page() -> bool:
    """Whether a browser asks, where whoever does not say gets JSON: what is changed, and what went wrong."""
    return request.accept_mimetypes.best_match(["application/json", "text/html"]) == "text/html"


def job_json(job: Job) -> Json:
    return {
        "id": job.id,
        "title": job.title,
        "due_on": job.due_on.isoformat() if job.due_on else None,
        "made_at": _time(job.made_at),
        "archived_at": _time(job.archived_at),
    }


def board_json(board: Board) -> Json:
    """A job whole: its destinations, its sources with what was measured, and of each place plan and deliverables.

    A place that is_coming has no plan yet.
    """
    destinations = [
        {"id": destination.id, "slug": spec.slug, "name": spec.spec.name} for destination, spec in board.destinations
    ]
    return {
        **job_json(board.job),
        "destinations": destinations,
        "sources": [_row_json(row) for row in board.rows],
        "questions": [each.sentence for each in board.questions],
    }


def _row_json(row: Row) -> Json:
    source = row.source
    return {
        "id": source.id,
        "title": source.title,
        "file_name": source.file_name,
        "kind": source.kind,
        "sha256": source.digest,
        "state": source.state,
        "progress_ratio": source.progress_ratio,
        "error": _error(source.error_code, source.error_message),
        "counts": not row.is_older,
        "recipe": source.recipe_name,
        "reading": reading_json(row.reading, source.file_name) if row.reading else None,
        "places": [_cell_json(cell) for cell in row.cells],
    }


def _cell_json(cell: Cell) -> Json:
    return {
        "destination": cell.destination.id,
        "state": cell.state,
        "problem": cell.problem,
        "is_coming": cell.is_coming,
        "own_target": cell.own_target,
        "plan": one_plan_json(cell.plan) if cell.plan else None,
        "deliverables": [deliverable_row_json(each) for each in cell.deliverables],
    }


def deliverable_row_json(made: Deliverable) -> Json:
    """A deliverable as it stands: waiting, under way, proved, or why not."""
    return {
        "id": made.id,
        "source": made.source_id,
        "destination": made.destination_id,
        "output": made.output,
        "state": made.state,
        "progress_ratio": made.progress_ratio,
        "file_name": made.file_name,
        "sha256": made.sha256,
        "size_bytes": made.size_bytes,
        "error": _error(made.error_code, made.error_message),
        "queued_at": _time(made.queued_at),
        "finished_at": _time(made.finished_at),
    }


def spec_row_json(known: Known) -> Json:
    return {"slug": known.spec.slug, "version": known.version, "jobs": known.jobs, **spec_json(known.spec)}


def recipe_json(known: KnownRecipe) -> Json:
    return {
        "slug": known.slug,
        "name": known.name,
        "version": known.version,
        "steps": [each.wish for each in known.recipe.steps],
    }


def line_json(line: Line) -> Json:
    return {"id": line.id, "trouble": line.trouble, **line.told}


def arrival_json(arrival: Arrival) -> Json:
    return {
        "id": arrival.id,
        "line": arrival.line_id,
        "name": arrival.name,
        "state": arrival.state,
        "arrived_at": _time(arrival.arrived_at),
        "expected_at": _time(arrival.expected_at),
        "is_late": arrival.is_late,
        "published": list(arrival.published),
        "error": _error(arrival.error_code, arrival.error_message),
        "figures": dict(arrival.figures),
    }


def link_json(link: ClientLink, address: str) -> Json:
    """A client's link, and all that was said of its files."""
    said = answers_of(link)
    return {
        "id": link.id,
        "client": link.client,
        "address": address,
        "holds": holds(link),
        "may_fetch": link.may_fetch,
        "made_by": link.made_by,
        "made_at": _time(link.made_at),
        "expires_at": _time(link.expires_at),
        "seen_at": _time(link.seen_at),
        "files": [_said_json(file, said.get(file["sha256"], ())) for file in link.files],
    }


def _said_json(file: Mapping[str, Any], answers: Sequence[Any]) -> Json:
    told = [
        {"verdict": each.verdict, "note": each.note, "from_s": each.from_s, "at": _time(each.at)} for each in answers
    ]
    return {"path": file["path"], "sha256": file["sha256"], "answers": told}


def entry_json(entry: JournalEntry) -> Json:
    return {"id": entry.id, "at": _time(entry.at), "who": entry.who, "words": entry.words}


def _error(code: str | None, message: str | None) -> Json | None:
    return {"code": code, "message": message} if code or message else None


def _time(at: datetime | None) -> str | None:
    return at.isoformat(timespec="seconds") if at else None
