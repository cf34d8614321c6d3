"""Jobs: the list, the board, its parts, rendering."""

from collections.abc import Collection, Sequence
from datetime import date
from typing import Any

from flask import Blueprint, current_app, jsonify, redirect, render_template, request, url_for

from nicelevel.core.errors import SpecError
from nicelevel.core.words import counted, listed
from nicelevel.desk.neighbours import noted_readings
from nicelevel.report.scatter import AXES, draw_scatter
from nicelevel.report.words import megabytes
from nicelevel.store.database import database
from nicelevel.store.deliverables import stop_deliverables
from nicelevel.store.jobs import (
    add_destination,
    all_jobs,
    archive_job,
    date_job,
    make_job,
    name_job,
)
from nicelevel.store.journal import enter
from nicelevel.store.models import LONGEST_TITLE, Destination, Source
from nicelevel.store.runs import prefer
from nicelevel.store.sources import sources_of
from nicelevel.store.specs import known_specs, spec_of
from nicelevel.store.trash import jobs_in_trash, trash, trash_destination, trash_job
from nicelevel.store.undo import changing, redo, undo
from nicelevel.work.enqueue import enqueue_all_renders, enqueue_preparations
from nicelevel.work.keeping import free_trash

from .board import Board, bar_of, board_of, column_of, count_coming, places_to_render
from .board_order import in_order
from .counting import count_of
from .for_programs import board_json, job_json, wants_json, wants_page
from .found import audio, destination_or_404, job_or_404

jobs = Blueprint("jobs", __name__)

SPREAD_PIXELS = (1244, 640)

NOT_YET = "", 202


@jobs.get("/")
def index() -> Any:
    """The jobs by their names; what their plans say comes row by row, for a plan may take its time."""
    if wants_json():
        return jsonify(jobs=[job_json(each) for each in all_jobs()])
    return render_template("jobs/index.html", jobs=all_jobs(), count=None, today=date.today(), trash=trash())


@jobs.get("/jobs/<int:job_id>/row")
def row(job_id: int) -> Any:
    """The row of a job on the list, in a table of its own: a row by itself is no HTML; 202 while it is counted."""
    job = job_or_404(job_id)
    if found := count_of(job):
        return render_template("jobs/row.html", job=job, count=found, today=date.today())
    return NOT_YET


@jobs.post("/jobs")
def new() -> Any:
    """Make a job."""
    title = request.form.get("title", "").strip()[:LONGEST_TITLE] or "Untitled job"
    job = make_job(title, _due_on(request.form.get("due_on")))
    address = url_for("jobs.board", job_id=job.id)
    if wants_page():
        return redirect(address)
    return jsonify(id=job.id, board=address, upload=url_for("uploads.begin", job_id=job.id))


def _due_on(text: str | None) -> date | None:
    try:
        return date.fromisoformat(text) if text else None
    except ValueError as error:
        raise SpecError(f"{text} is not a date; write it as 2026-12-04.", "due_on") from error


@jobs.post("/jobs/<int:job_id>/name")
def rename(job_id: int) -> Any:
    """Call a job otherwise."""
    job = job_or_404(job_id)
    with changing(f"renamed {job.title}", job_id):
        name_job(job, request.form.get("title", ""))
    return jsonify(title=job_or_404(job_id).title)


@jobs.post("/jobs/<int:job_id>/due")
def set_due(job_id: int) -> Any:
    """When a job is due; without a date it is not."""
    job, due_on = job_or_404(job_id), _due_on(request.form.get("due_on", "").strip())
    with changing(f"changed when {job.title} is due", job_id):
        date_job(job, due_on)
    return jsonify(due_on=due_on.isoformat() if due_on else None)


@jobs.post("/jobs/<int:job_id>/archive")
def archive(job_id: int) -> Any:
    """Put a job that is done away, or back on the list."""
    job = job_or_404(job_id)
    with changing(f"{'brought back' if job.archived_at else 'archived'} {job.title}", job_id):
        archive_job(job, job.archived_at is None)
    return jsonify(archived=job.archived_at is None)


@jobs.post("/jobs/<int:job_id>/delete")
def delete(job_id: int) -> Any:
    """Take a job off the list, with all that it has, into the trash."""
    job = job_or_404(job_id)
    with changing(f"deleted {job.title}", job_id):
        trash_job(job)
    return jsonify(deleted=job_id)


@jobs.post("/trash/empty")
def empty_trash() -> Any:
    """Delete for good what lies in the trash; what is freed is told."""
    gone = jobs_in_trash()
    freed_bytes = free_trash(current_app.config["NICE_LEVEL"])
    whole = f" with {listed(gone)}" if gone else ""
    enter(f"emptied the trash{whole}, which freed {megabytes(freed_bytes)} MB")
    if wants_page():
        return redirect(url_for("house.room"))
    return jsonify(freed_bytes=freed_bytes)


@jobs.post("/jobs/<int:job_id>/undo")
def undo_here(job_id: int) -> Any:
    """Take back the latest change of a board, or with `again` do once more what was taken back."""
    job_or_404(job_id)
    words = redo(job_id) if "again" in request.form else undo(job_id)
    # Steps that come back may never have been done: what was changed meanwhile is not worked on.
    enqueue_preparations(job_id, audio())
    return _undone(words)


@jobs.post("/jobs/undo")
def undo_on_list() -> Any:
    """The same for what concerns jobs as a whole."""
    return _undone(redo(on_list=True) if "again" in request.form else undo(on_list=True))


def _undone(words: str | None) -> Any:
    return jsonify(undone=words)


@jobs.get("/jobs/<int:job_id>")
def board(job_id: int) -> Any:
    """The board of a job: sources down, destinations across; as JSON all of it at once."""
    if wants_json():
        return jsonify(board_json(_board(job_id, None)))
    return render_template("board/board.html", board=_board(job_id, ()), known=known_specs())


@jobs.get("/jobs/<int:job_id>/spread")
def spread(job_id: int) -> str:
    """All measured sources as points in two figures."""
    job = job_or_404(job_id)
    x, y = (_axis(name, default) for name, default in (("x", "integrated"), ("y", "true_peak")))
    sources = {source.id: source for source in sources_of(job_id) if source.state == "measured"}
    noted = noted_readings(list(sources.values()), audio())
    named = [(key, sources[key].title, reading) for key, reading in noted.items()]
    drawing = draw_scatter(named, AXES[x], AXES[y], *SPREAD_PIXELS)
    return render_template("spread/spread.html", job=job, drawing=drawing, axes=AXES, x=x, y=y)


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
def bar(job_id: int) -> Any:
    """What the bar over the board says of all rows; 202 while they are counted."""
    job = job_or_404(job_id)
    if found := count_of(job):
        return render_template("board/bar.html", board=bar_of(job, found, audio()))
    return NOT_YET


@jobs.get("/jobs/<int:job_id>/order")
def order(job_id: int) -> Any:
    """Ids of the sources in the order asked for, of those alone that say all the words."""
    key, words = request.args.get("by", "place"), request.args.get("words", "")
    return jsonify(sources=in_order(_board(job_id, None), key, "down" in request.args, words))


@jobs.post("/jobs/<int:job_id>/destinations")
def add(job_id: int) -> Any:
    """Add a destination to a job, by the slug of its spec."""
    job_or_404(job_id)
    slug = request.form.get("slug", "")
    with changing(f"added {slug}", job_id):
        add_destination(job_id, slug)
    enqueue_preparations(job_id, audio())
    return redirect(url_for("jobs.board", job_id=job_id))


@jobs.post("/destinations/<int:destination_id>/remove")
def remove(destination_id: int) -> Any:
    """Take a destination off; its deliverables go to the trash with it."""
    destination = destination_or_404(destination_id)
    with changing(f"took {spec_of(destination.spec).spec.name} off", destination.job_id):
        trash_destination(destination)
    return jsonify(removed=destination_id)


@jobs.post("/jobs/<int:job_id>/render")
def render_all(job_id: int) -> Any:
    """Queue all that lands and is not proved yet, or only what belongs to some sources or to one destination.

    Says what of it is not queued: sources that wait for an answer (held), places that have no plan yet (coming).
    """
    sources, destination_id = request.form.getlist("source", type=int), request.form.get("destination", type=int)
    shown = _board(job_id, sources or None)
    asked = places_to_render(shown, sources, destination_id)
    held = {source.id for source, _ in asked} & shown.held
    # One transaction for all of them: two thousand of their own take a quarter of a minute.
    with database.atomic():
        places = [(source, place) for source, place in asked if source.id not in held]
        queued = enqueue_all_renders(job_id, places, audio())
        if queued:
            enter(_had_rendered(queued, places), job_id)
    return jsonify(queued=queued, held=len(held), coming=count_coming(shown, sources, destination_id))


def _had_rendered(count: int, places: Sequence[tuple[Source, Destination]]) -> str:
    """For the journal. What is of one source, or for one destination, is named."""
    titles = {source.title for source, _ in places}
    names = {spec_of(place.spec).spec.name for _, place in places}
    of_one = f" of {titles.pop()}" if len(titles) == 1 else ""
    for_one = f" for {names.pop()}" if len(names) == 1 else ""
    return f"had {counted(count, 'file')}{of_one} rendered{for_one}"


@jobs.post("/jobs/<int:job_id>/seen")
def seen(job_id: int) -> Any:
    """What is on somebody's screen is rendered first."""
    prefer(job_or_404(job_id).id, request.form.getlist("source", type=int))
    return jsonify()


@jobs.post("/jobs/<int:job_id>/stop")
def stop(job_id: int) -> Any:
    """Stop all that waits or is being rendered of a job."""
    job_or_404(job_id)
    return jsonify(stopped=stop_deliverables(job_id))


def _board(job_id: int, whole: Collection[int] | None) -> Board:
    return board_of(job_or_404(job_id), audio(), whole)
