"""The Channels view of a source: what its channels become, what is lost on the way, which programmes they are."""

from typing import Any

from flask import Blueprint, Response, abort, jsonify, redirect, render_template, request, url_for

from nicelevel.core.channels import Layout, layout_from_count, layout_of_name
from nicelevel.core.crossing.presets import presets_of
from nicelevel.core.errors import NiceLevelError, NotPreparedError
from nicelevel.core.files.between import kept_open
from nicelevel.core.programmes import programmes_of_map
from nicelevel.core.programmes.programme import Programme, refuse_channels_past
from nicelevel.core.values import Shape
from nicelevel.desk.channels import (
    Crossing,
    checked,
    crossing_of,
    found_programmes,
    in_common,
    keep_crossing,
    law_of,
    levels_alone,
    measured_as_drawn,
    shape_of,
    take_apart,
    what_adds_up,
)
from nicelevel.desk.contents import contents_of, sum_leader_of
from nicelevel.desk.hearing_channels import NAMES, channels_sheet, heard_of
from nicelevel.desk.prepared import load_prepared
from nicelevel.desk.sets import link_album
from nicelevel.report import channels_view as view
from nicelevel.report.reading_view import facts_line
from nicelevel.report.sum_words import addition_sentence
from nicelevel.report.words import level
from nicelevel.store.models import Source
from nicelevel.store.readings import load_figures
from nicelevel.store.sources import sources_of
from nicelevel.store.undo import changing
from nicelevel.work.enqueue import enqueue_measuring, enqueue_preparations

from .found import audio, source_or_404
from .hearing import second_of, sound_of

channels = Blueprint("channels", __name__)

WIDTH = 680


@channels.get("/sources/<int:source_id>/channels")
def show(source_id: int) -> Any:
    """The whole page; parts of a sum are mixed as their leader is."""
    source = _measured_or_404(source_id)
    if (led_by := sum_leader_of(source)) is not None:
        return redirect(url_for("channels.show", source_id=led_by.id))
    shape = shape_of(source, audio())
    return render_template(
        "channels/channels.html",
        source=source,
        facts=facts_line(load_figures(source.digest, audio())),
        presets=presets_of(shape.layout),
        others=_alike(source, shape),
        **_drawn(source, shape, crossing_of(source, shape)),
    )


@channels.post("/sources/<int:source_id>/channels/draft")
def draft(source_id: int) -> str:
    """The same drawn for other shares; nothing is kept."""
    source = _measured_or_404(source_id)
    shape = shape_of(source, audio())
    return render_template("channels/drawn.html", source=source, **_drawn(source, shape, _told(shape)))


@channels.post("/sources/<int:source_id>/channels")
def keep(source_id: int) -> Any:
    """Have it as it is drawn, before all other steps of the source; with it others that have the same channels, each
    levelled by itself or all of them by one gain.
    """
    source = _measured_or_404(source_id)
    shape, also = shape_of(source, audio()), set(request.form.getlist("with", type=int))
    crossing, meant = _told(shape), [source, *(each for each in _alike(source, shape) if each.id in also)]
    words = source.title if len(meant) == 1 else f"{len(meant)} sources"
    with changing(f"changed the channels of {words}", source.job_id):
        for each in meant:
            keep_crossing(each, crossing, shape)
        if "one_gain" in request.form and len(meant) > 1:
            link_album(meant, audio())
    enqueue_preparations(source.job_id, audio(), [each.id for each in meant])
    return jsonify(kept=len(meant))


def _alike(source: Source, shape: Shape) -> list[Source]:
    """What else in its job has the same channels; parts of a sum are mixed as their leader is."""
    here = (each for each in sources_of(source.job_id) if each.id != source.id and each.state == "measured")
    alone = (each for each in here if sum_leader_of(each) is None)
    return [each for each in alone if shape_of(each, audio()).layout.positions == shape.layout.positions]


@channels.get("/sources/<int:source_id>/channels/hear/<which>/<int:rate_hz>/<int:piece>")
def hear(source_id: int, which: str, rate_hz: int, piece: int) -> Response:
    """A second before, after, or of what is lost; the crossing is what the address is stamped with."""
    source = _measured_or_404(source_id)
    if which not in NAMES:
        abort(404)
    crossing = checked(request.args.get("s", ""), shape_of(source, audio()))
    with kept_open(audio().playable_path(source.digest)) as file:
        return sound_of(second_of(heard_of(file, which, crossing), rate_hz, piece))


@channels.get("/sources/<int:source_id>/channels/level")
def drawn_level(source_id: int) -> Any:
    """Loudness and true peak as it is drawn, in a sentence: asked for after the drawing, for all of it is heard."""
    source = _measured_or_404(source_id)
    crossing = checked(request.args.get("crossing", ""), shape_of(source, audio()))
    reading = measured_as_drawn(source.digest, crossing, audio())
    return jsonify(sentence=view.drawn_words(reading) if reading else "It is long: it is measured once it is kept.")


@channels.get("/sources/<int:source_id>/channels/alone")
def alone(source_id: int) -> Any:
    """The loudness of each channel by itself, in words: asked for after the page, for all of the file is heard."""
    source = _measured_or_404(source_id)
    return jsonify(levels=[level(each) for each in levels_alone(source.digest, audio())])


@channels.get("/sources/<int:source_id>/channels/sum")
def adds_up(source_id: int) -> Any:
    """Whether the programmes of a file add up to one of them, in a sentence; empty where there is none such."""
    found = what_adds_up(_measured_or_404(source_id).digest, audio())
    if found is None:
        return jsonify(sentence="", adds_up=True)
    addition, check = found
    labels = [each.label for each in addition.parts]
    return jsonify(sentence=addition_sentence(check, addition.mix.label, labels), adds_up=check.adds_up)


@channels.post("/sources/<int:source_id>/channels/apart")
def apart(source_id: int) -> Any:
    """Make a source of each programme, by a map or each channel by itself; the audio is not copied."""
    source = _measured_or_404(source_id)
    shape = shape_of(source, audio())
    programmes = _asked(source, shape)
    refuse_channels_past(programmes, shape.channels)
    with changing(f"took {source.title} apart", source.job_id):
        made = take_apart(source, programmes, audio())
        for each in made:
            enqueue_measuring(each)
    board = url_for("jobs.board", job_id=source.job_id, _anchor=f"source-{made[0].id}")
    return jsonify(made=len(made), board=board)


def _asked(source: Source, shape: Shape) -> tuple[Programme, ...]:
    """Where the map is what the file itself says, with the layouts that it says."""
    if "each" in request.form:
        names = view.out_names(shape.layout.name, shape.layout.positions)
        return tuple(Programme(name, (n,), layout_from_count(1)) for n, name in enumerate(names, 1))
    text = request.form.get("map", "")
    found = found_programmes(source.digest, audio()).programmes
    return found if text.strip() == view.map_text(found) else programmes_of_map(text)


def _drawn(source: Source, shape: Shape, crossing: Crossing) -> dict[str, Any]:
    found = in_common(source.digest, audio())
    width = min(max(request.args.get("width", WIDTH, type=int), 300), 2_400)
    layout = _layout(crossing, shape)
    programmes = found_programmes(source.digest, audio())
    return {
        "shape": shape,
        "crossing": crossing,
        "ins": view.draw_ins(found),
        "outs": view.draw_outs(crossing.rows, view.out_names(layout.name, layout.positions)),
        "is_kept": crossing == crossing_of(source, shape),
        "is_sum": view.is_sum(crossing.rows),
        "measured": _measured(source) if source.recipe_json else "",
        "sentences": view.sentences_of(found, crossing.rows, layout.weights, law_of(crossing, shape)),
        "lost": view.draw_lost(found, crossing.rows, width),
        "over_time": view.draw_over_time(found, (0, 1), width) if shape.channels > 1 else None,
        "programmes": programmes,
        "ribbon": view.ribbon_of(programmes.programmes, shape.channels, width),
        "map_text": view.map_text(programmes.programmes),
        "sheet": channels_sheet(source, shape, crossing, audio()),
    }


def _measured(source: Source) -> str:
    """What was measured of the source with its steps, in a sentence; that it is being measured; nothing else."""
    contents = contents_of(source)
    try:
        return view.prepared_words(load_prepared(contents, contents.recipe, audio()).reading)
    except NotPreparedError:
        return "It is being measured with all its steps."
    except NiceLevelError as error:
        return error.message


def _layout(crossing: Crossing, shape: Shape) -> Layout:
    """Of what results."""
    return shape.layout if crossing.layout == shape.layout.name else layout_of_name(crossing.layout)


def _told(shape: Shape) -> Crossing:
    return checked(request.form.get("crossing", ""), shape)


def _measured_or_404(source_id: int) -> Source:
    source = source_or_404(source_id)
    if source.state != "measured":
        abort(404)
    return source
