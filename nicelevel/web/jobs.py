"""Jobs: the list, the board, its parts, rendering."""

from collections.abc import Collection
from datetime import date
from typing import Any

from flask import Blueprint, jsonify, redirect, render_template, request, url_for

from nicelevel.core.errors import SpecError
from nicelevel.report.scatter import AXES, draw_scatter
from nicelevel.store.database import database
from nicelevel.store.deliverables import count_proved, stop_deliverables
from nicelevel.store.jobs import add_destination, all_jobs, delete_job, make_job, remove_destination
from nicelevel.store.neighbours import noted_readings
from nicelevel.store.runs import prefer
from nicelevel.store.sources import sources_of
from nicelevel.store.specs import known_specs, spec_of
from nicelevel.work.enqueue import enqueue_preparations, enqueue_renders

from .board import Board, board_of, column_of, places_to_render
from .board_order import in_order
from .discard import free_deliverables_here
from .found import audio, destination_or_404, job_or_404

jobs = Blueprint("jobs", __name__)

SET_PIXELS = (1244, 640)


@jobs.get("/")
def index() -> str:
    boards = [board_of(job, audio()) for job in all_jobs()]
    return render_template("jobs/index.html", boards=boards, today=date.today())


@jobs.post("/jobs")
def new() -> Any:
    title = request.form.get("title", "").strip()[:200] or "Untitled job"
    job = make_job(title, _due_on(request.form.get("due_on")))
    address = url_for("jobs.board", job_id=job.id)
    if request.accept_mimetypes.best_match(["application/json", "text/html"]) == "text/html":
        return redirect(address)
    return jsonify(id=job.id, board=address, upload=url_for("uploads.begin", job_id=job.id))


def _due_on(text: str | None) -> date | None:
    try:
        return date.fromisoformat(text) if text else None
    except ValueError as error:
        raise SpecError(f"{text} is not a date; write it as 2026-12-04.") from error


@jobs.post("/jobs/<int:job_id>/delete")
def delete(job_id: int) -> Any:
    """Delete a job with all that it has; what is freed is told."""
    deliverables, digests = delete_job(job_or_404(job_id))
    return jsonify(deleted=job_id, freed_bytes=free_deliverables_here(deliverables, digests))


@jobs.get("/jobs/<int:job_id>")
def board(job_id: int) -> str:
    return render_template("board/board.html", board=_board(job_id, ()), known=known_specs())


@jobs.get("/jobs/<int:job_id>/set")
def set_view(job_id: int) -> str:
    """All measured sources as points in two figures."""
    job = job_or_404(job_id)
    x, y = (_axis(name, default) for name, default in (("x", "integrated"), ("y", "true_peak")))
    sources = {source.id: source for source in sources_of(job_id) if source.state == "measured"}
    noted = noted_readings(list(sources.values()), audio())
    named = [(key, sources[key].title, reading) for key, reading in noted.items()]
    drawing = draw_scatter(named, AXES[x], AXES[y], *SET_PIXELS)
    return render_template("set/set.html", job=job, drawing=drawing, axes=AXES, x=x, y=y)


def _axis(name: str, default: str) -> str:
    asked = request.args.get(name, default)
    return asked if asked in AXES else default


@jobs.get("/jobs/<int:job_id>/parts")
def parts(job_id: int) -> str:
    """Rows of the sources asked for, all without any; with `others`, outlines of the rest. What the page swaps in."""
    wanted = set(request.args.getlist("source", type=int))
    shown = _board(job_id, wanted or None)
    others = "others" in request.args or not wanted
    rows = [row for row in shown.rows if others or row.concerns(wanted)]
    return render_template("board/parts.html", board=shown, rows=rows)


@jobs.get("/jobs/<int:job_id>/column/<int:destination_id>")
def column(job_id: int, destination_id: int) -> str:
    """The cells of one destination for the sources asked for, and its head."""
    job, destination = job_or_404(job_id), destination_or_404(destination_id)
    wanted = request.args.getlist("source", type=int)
    rows = column_of(job, destination, wanted, audio())
    spec = spec_of(destination.spec)
    return render_template("board/column.html", job=job, destination=destination, spec=spec, rows=rows)


@jobs.get("/jobs/<int:job_id>/bar")
def bar(job_id: int) -> str:
    """What the bar over the board says of all rows."""
    return render_template("board/bar.html", board=_board(job_id, None))


@jobs.get("/jobs/<int:job_id>/order")
def order(job_id: int) -> Any:
    """Ids of the sources in the order asked for, of those alone that say all the words."""
    key, words = request.args.get("by", "place"), request.args.get("words", "")
    return jsonify(sources=in_order(_board(job_id, None), key, "down" in request.args, words))


@jobs.post("/jobs/<int:job_id>/destinations")
def add(job_id: int) -> Any:
    job_or_404(job_id)
    add_destination(job_id, request.form.get("slug", ""))
    enqueue_preparations(job_id, audio())
    return redirect(url_for("jobs.board", job_id=job_id))


@jobs.post("/destinations/<int:destination_id>/remove")
def remove(destination_id: int) -> Any:
    destination = destination_or_404(destination_id)
    free_deliverables_here(remove_destination(destination_id))
    return redirect(url_for("jobs.board", job_id=destination.job_id))


@jobs.post("/jobs/<int:job_id>/render")
def render_all(job_id: int) -> Any:
    """Queue all that lands and is not proved yet, or only what belongs to some sources or to one destination."""
    sources, destination_id = request.form.getlist("source", type=int), request.form.get("destination", type=int)
    shown = _board(job_id, None)
    asked = places_to_render(shown, sources, destination_id)
    held = {source.id for source, _ in asked} & shown.held
    # One transaction for all of them: two thousand of their own take a quarter of a minute.
    with database.atomic():
        queued = sum(len(enqueue_renders(source, place, audio())) for source, place in asked if source.id not in held)
    return jsonify(queued=queued, held=len(held))


@jobs.get("/jobs/<int:job_id>/proved")
def proved(job_id: int) -> Any:
    """How many proved deliverables some sources or a destination would take with them."""
    sources, destination_id = request.args.getlist("source", type=int), request.args.get("destination", type=int)
    return jsonify(proved=count_proved(job_or_404(job_id).id, sources, destination_id))


@jobs.post("/jobs/<int:job_id>/seen")
def seen(job_id: int) -> Any:
    """What is on somebody's screen is rendered first."""
    prefer(job_or_404(job_id).id, request.form.getlist("source", type=int))
    return jsonify()


@jobs.post("/jobs/<int:job_id>/stop")
def stop(job_id: int) -> Any:
    job_or_404(job_id)
    return jsonify(stopped=stop_deliverables(job_id))


def _board(job_id: int, whole: Collection[int] | None) -> Board:
    return board_of(job_or_404(job_id), audio(), whole)
