"""Sources: taking one in, its close-up at a destination, taking it out."""

from collections.abc import Sequence
from typing import Any, BinaryIO, cast

from flask import Blueprint, current_app, jsonify, render_template, request, url_for

from nicelevel.core.errors import NotAudioError, SpecError
from nicelevel.core.specs.match import match_spec
from nicelevel.core.specs.write import spec_to_toml
from nicelevel.core.words import listed
from nicelevel.desk.intake import changed, receive, refuse_too_large, replaced, shown_name
from nicelevel.desk.proposals import proposals
from nicelevel.desk.sets import link_album
from nicelevel.desk.sides import asked_sides, join_sides, sides_in_order
from nicelevel.desk.versions import choose_version, set_aside
from nicelevel.store.jobs import add_destination, find_destination
from nicelevel.store.journal import enter
from nicelevel.store.models import Source
from nicelevel.store.own_targets import own_target_of, save_own_target
from nicelevel.store.readings import load_figures
from nicelevel.store.sets import keep_alone, link_set, members_of, unlink_set
from nicelevel.store.sides import keep_sides
from nicelevel.store.sources import find_source, name_source, order_sources, sources_of
from nicelevel.store.specs import free_slug, keep_version, spec_of
from nicelevel.store.trash import trash_source
from nicelevel.store.undo import changing
from nicelevel.work.enqueue import (
    enqueue_again_of_source,
    enqueue_measuring,
    enqueue_preparations,
    enqueue_source,
    enqueue_sum,
    enqueue_sum_check,
)

from .board import close_up_of, moved, price_of
from .found import audio, destination_or_404, job_or_404, source_or_404

sources = Blueprint("sources", __name__)

NARROWEST, WIDEST, SHORTEST, TALLEST = 300, 4000, 120, 1600


@sources.post("/jobs/<int:job_id>/sources")
def upload(job_id: int) -> Any:
    """Take in one file: its bytes are the body, its name is in the address."""
    job_or_404(job_id)
    file_name = shown_name(request.args.get("name", ""))
    if request.content_length is None:
        raise NotAudioError("The upload does not say how long it is.")
    config = current_app.config["NICE_LEVEL"]
    refuse_too_large(request.content_length, config)
    digest, size_bytes = receive(
        file_name, cast(BinaryIO, request.stream), request.content_length, config.uploads_folder, audio()
    )
    changed_at = changed(request.args.get("changed", type=int))
    replaces = replaced(job_id, request.args.get("replaces", ""))
    source = enqueue_source(job_id, file_name, digest, size_bytes, changed_at=changed_at, replaces=replaces)
    return jsonify(source=source.id)


@sources.get("/sources/<int:source_id>/close-up/<int:destination_id>")
def close_up(source_id: int, destination_id: int) -> str:
    """The part of the board under its rows, drawn for the width of the page."""
    source, destination = source_or_404(source_id), destination_or_404(destination_id)
    width, height = _pixels("width", 962, NARROWEST, WIDEST), _pixels("height", 283, SHORTEST, TALLEST)
    return render_template("board/close_up.html", shown=close_up_of(source, destination, audio(), width, height))


@sources.get("/sources/<int:source_id>/price/<int:destination_id>")
def price(source_id: int, destination_id: int) -> str:
    """What each level would cost in limiting: asked for after the close-up, for it takes a little longer.

    Nothing where source or destination have gone meanwhile.
    """
    source, destination = find_source(source_id), find_destination(destination_id)
    if source is None or destination is None:
        return ""
    drawing = price_of(source, destination, audio())
    own = own_target_of(source, destination)
    return render_template("board/price.html", price=drawing, source=source, destination=destination, own=own)


@sources.post("/sources/<int:source_id>/link")
def link(source_id: int) -> Any:
    """Let other sources of the job take the gain of this one."""
    leader = source_or_404(source_id)
    members = [source_or_404(each) for each in request.form.getlist("member", type=int)]
    with changing(f"made one set of {leader.title} and its stems", leader.job_id):
        link_set(leader, [*members_of(leader.id), *members], "sum")
    enqueue_sum_check(leader)
    enqueue_preparations(leader.job_id, audio())
    return jsonify(linked=len(members))


@sources.post("/jobs/<int:job_id>/sets")
def make_set(job_id: int) -> Any:
    """One gain for some sources of a job: from the loudest of them, or from their sum, which is made for it."""
    job_or_404(job_id)
    found = [source_or_404(each) for each in request.form.getlist("member", type=int)]
    members = [each for each in found if each.job_id == job_id and each.state == "measured"]
    if len(members) < 2:
        raise SpecError("A set needs two measured sources at least.")
    if request.form.get("by") == "sum":
        enqueue_sum(job_id, members)
    else:
        with changing(f"gave {len(members)} sources one gain", job_id):
            link_album(members, audio())
    return jsonify(linked=len(members))


@sources.post("/sources/<int:source_id>/unlink")
def unlink(source_id: int) -> Any:
    """End the set of this source."""
    source = source_or_404(source_id)
    with changing(f"ended the set of {source.title}", source.job_id):
        unlink_set(source)
    enqueue_preparations(source.job_id, audio())
    return jsonify(unlinked=source_id)


@sources.post("/sources/<int:source_id>/alone")
def stand_alone(source_id: int) -> Any:
    """Let the sources that a set was proposed for stand alone; source_id: of what would lead it."""
    source = source_or_404(source_id)
    with changing(f"left the stems of {source.title} alone", source.job_id):
        for each in proposals(sources_of(source.job_id), audio()):
            if each.leader.id == source_id:
                keep_alone(each)
    return jsonify(alone=source_id)


@sources.post("/jobs/<int:job_id>/sides")
def join(job_id: int) -> Any:
    """One source of some that have one channel each, in the order that their names say; no audio is copied."""
    job_or_404(job_id)
    found = [source_or_404(each) for each in request.form.getlist("member", type=int)]
    chosen = [each for each in found if each.job_id == job_id]
    name, layout, sides = sides_in_order(chosen, audio())
    with changing(f"made one source of {listed([each.title for each in sides])}", job_id):
        made = join_sides(name, layout, sides, audio())
        enqueue_measuring(made)
    return jsonify(source=made.id, board=url_for("jobs.board", job_id=job_id, _anchor=f"source-{made.id}"))


@sources.post("/sources/<int:source_id>/leave-apart")
def leave_apart(source_id: int) -> Any:
    """Let sources that are named like sides of one stand each for itself; source_id: of the first."""
    source = source_or_404(source_id)
    with changing(f"left {source.title} and its other side apart", source.job_id):
        for each in asked_sides(sources_of(source.job_id), audio()):
            if each.sources[0].id == source_id:
                keep_sides(source, each.sources[1:], (each.found or {}) | {"answer": "apart"})
    return jsonify(apart=source_id)


@sources.post("/sources/<int:source_id>/leave-aside")
def leave_aside(source_id: int) -> Any:
    """Stay with the version that was chosen before this one came."""
    source = source_or_404(source_id)
    with changing(f"set {source.title} aside", source.job_id):
        set_aside(source)
    return jsonify(aside=source_id)


@sources.post("/sources/<int:source_id>/count")
def count_version(source_id: int) -> Any:
    """Let this version of its title count: instead of the others, or beside those that count."""
    source = source_or_404(source_id)
    with changing(f"let {source.title} count", source.job_id):
        choose_version(source, audio(), "beside" in request.args)
    return jsonify(counts=source_id)


@sources.post("/sources/<int:source_id>/match")
def match(source_id: int) -> Any:
    """A destination that brings the other sources of the job to this one, by a measure."""
    source = source_or_404(source_id)
    if source.state != "measured":
        raise SpecError(f"{source.title} is not measured yet.")
    slug = free_slug(f"like {source.title}")
    reading = load_figures(source.digest, audio())
    measure, may_limit = request.form.get("measure", "integrated"), "limiter" in request.form
    spec = match_spec(reading, source.title, measure, slug, may_limit)
    keep_version(slug, spec_to_toml(spec))
    with changing(f"matched the others to {source.title}", source.job_id):
        add_destination(source.job_id, slug, source.id)
    enqueue_preparations(source.job_id, audio())
    return jsonify(board=url_for("jobs.board", job_id=source.job_id, _anchor=f"source-{source.id}"))


@sources.post("/sources/<int:source_id>/target/<int:destination_id>")
def own_target(source_id: int, destination_id: int) -> Any:
    """Give a source its own target at a destination; without one it has the spec's again."""
    source, destination = source_or_404(source_id), destination_or_404(destination_id)
    target = request.form.get("target", type=float)
    with changing(f"changed the target of {source.title}", source.job_id):
        save_own_target(source, destination, spec_of(destination.spec), target)
    return jsonify(target=target)


def _pixels(name: str, default: int, least: int, most: int) -> int:
    return min(max(request.args.get(name, default, type=int), least), most)


@sources.post("/sources/<int:source_id>/again")
def again(source_id: int) -> Any:
    """Do once more what failed of a source: measuring it, or preparing it for a destination."""
    source = source_or_404(source_id)
    queued = enqueue_again_of_source(source)
    if queued:
        enter(f"tried {source.title} once more", source.job_id)
    return jsonify(queued=int(queued))


@sources.post("/sources/<int:source_id>/remove")
def remove(source_id: int) -> Any:
    """Take a source off its board, with its deliverables, into the trash."""
    source = source_or_404(source_id)
    return _take_out(source.job_id, [source])


@sources.post("/jobs/<int:job_id>/sources/remove")
def remove_several(job_id: int) -> Any:
    """The same for some sources of a job, as one change."""
    job_or_404(job_id)
    found = filter(None, map(find_source, request.form.getlist("source", type=int)))
    return _take_out(job_id, [each for each in found if each.job_id == job_id])


def _take_out(job_id: int, gone: Sequence[Source]) -> Any:
    with changing(f"took out {listed([each.title for each in gone][:4])}", job_id):
        for source in gone:
            trash_source(source)
    return jsonify(removed=[each.id for each in gone])


@sources.post("/sources/<int:source_id>/name")
def rename(source_id: int) -> Any:
    """Call a source otherwise; files that were written keep their names."""
    source = source_or_404(source_id)
    title = request.form.get("title", "")
    with changing(f"renamed {source.title}", source.job_id):
        name_source(source, title)
    return jsonify(title=source_or_404(source_id).title)


@sources.post("/sources/<int:source_id>/move")
def move(source_id: int) -> Any:
    """Put a source one place up or down in the order of its board, with what belongs to it."""
    source, up = source_or_404(source_id), "up" in request.form
    order = moved(source, up, audio())
    if order:
        with changing(f"moved {source.title}", source.job_id):
            order_sources(source.job_id, order)
    return jsonify(moved=bool(order))
