"""Recipes for sources: the screen that they are made on, given, taken back, made of what mends their notes."""

import json
from collections.abc import Sequence
from typing import Any

from flask import Blueprint, abort, jsonify, redirect, render_template, request, url_for
from pydantic import ValidationError

from nicelevel.core.errors import NiceLevelError, NotPreparedError, SpecError
from nicelevel.core.prepare.sketch import sketch
from nicelevel.core.recipes import NamedRecipe
from nicelevel.core.recipes.harms import Harm, harms_of
from nicelevel.core.recipes.write import recipe_to_toml
from nicelevel.core.steps import Step, recipe_to_json
from nicelevel.core.steps.hops import Hops
from nicelevel.core.steps.table import problem_of
from nicelevel.core.values import Reading
from nicelevel.desk import recipes as giving
from nicelevel.desk.contents import OFF, Contents, contents_of, recipe_of, steps_with_off, sum_leader_of
from nicelevel.desk.hearing_sheet import HearingSheet
from nicelevel.desk.hearing_steps import steps_sheet
from nicelevel.desk.prepared import level_of_what_is_under, load_prepared
from nicelevel.report.prepare_view import (
    NAMES,
    STRIP_HEIGHT,
    WAVE_HEIGHT,
    draw_waveform,
    first_of,
    length_words,
    rows_of,
    times_of,
)
from nicelevel.report.reading_view import facts_line
from nicelevel.report.recipe_words import soft_line, steps_line
from nicelevel.store.found import found_of
from nicelevel.store.models import Source
from nicelevel.store.readings import load_figures, load_reading
from nicelevel.store.recipes import find_recipe, keep_recipe, recipe_named
from nicelevel.store.sources import find_source, give_recipe, sources_of
from nicelevel.store.undo import changing
from nicelevel.work.enqueue import enqueue_preparations

from .found import audio, job_or_404, source_or_404

preparing = Blueprint("preparing", __name__)

WIDTH = 806


@preparing.get("/sources/<int:source_id>/prepare")
def show(source_id: int) -> Any:
    """The Prepare screen of a source; parts of a sum are prepared with their leader."""
    source = _measured_or_404(source_id)
    if (led_by := sum_leader_of(source)) is not None:
        return redirect(url_for("preparing.show", source_id=led_by.id))
    others = _others(source)
    also = {each.id for each in others} & set(request.args.getlist("with", type=int))
    known = recipe_named(source.recipe_name or "")
    kept_name = source.recipe_name if known and known.is_own else ""
    return render_template(
        "prepare/prepare.html",
        addable=NAMES,
        others=others,
        also=sorted(also),
        kept_name=kept_name,
        **_drawn(source, WIDTH),
    )


def _others(source: Source) -> list[Source]:
    """What else in its job may have the same steps: parts of a sum are prepared with their leader."""
    here = (each for each in sources_of(source.job_id) if each.id != source.id and each.state == "measured")
    return [each for each in here if sum_leader_of(each) is None]


@preparing.get("/sources/<int:source_id>/prepare/rows")
def rows(source_id: int) -> str:
    """Its rows, drawn for a width."""
    return _rows(_measured_or_404(source_id))


def _rows(source: Source) -> str:
    width = min(max(request.args.get("width", WIDTH, type=int), 200), 4_000)
    return render_template("prepare/_rows.html", **_drawn(source, width))


@preparing.post("/sources/<int:source_id>/prepare/draft")
def draft(source_id: int) -> str:
    """Its rows as they would be with steps as they are told; nothing is kept, and nobody listens yet."""
    source = _measured_or_404(source_id)
    told = _checked(request.form.get("steps", "[]"))
    source.recipe_json = json.dumps(told) if told else None
    return _rows(source)


@preparing.post("/sources/<int:source_id>/prepare")
def change(source_id: int) -> Any:
    """Keep the steps of a source as they are told, those that are off too."""
    source = _measured_or_404(source_id)
    told = _checked(request.form.get("steps", "[]"))
    _give_as_told(source, told, f"changed how {source.title} is prepared")
    return jsonify(steps=len(told))


@preparing.post("/sources/<int:source_id>/prepare/add")
def add(source_id: int) -> Any:
    """A step more, at the end."""
    source, do = _measured_or_404(source_id), request.form.get("do", "")
    if do not in NAMES:
        raise SpecError(f"{do}: no such step.")
    told = json.loads(source.recipe_json) if source.recipe_json else []
    (stored,) = recipe_to_json((first_of(do),))
    _give_as_told(source, [*told, stored], f"added a step to {source.title}")
    return jsonify(steps=len(told) + 1)


@preparing.post("/sources/<int:source_id>/prepare/share")
def share(source_id: int) -> Any:
    """Give the steps of a source, those that are off too, to others of its job."""
    source = _measured_or_404(source_id)
    told = json.loads(source.recipe_json) if source.recipe_json else []
    also = request.form.getlist("with", type=int)
    _give_as_told(source, told, f"prepared {len(also)} more as {source.title}", also)
    return jsonify(sources=1 + len(also))


@preparing.post("/sources/<int:source_id>/prepare/keep")
def keep(source_id: int) -> Any:
    """Keep the steps of a source that are not off as a recipe with a name, and call the source by it."""
    source = _measured_or_404(source_id)
    name, steps = request.form.get("name", "").strip(), recipe_of(source)
    if not steps:
        raise SpecError("There is no step to keep.")
    if name in (giving.MENDED, giving.OWN):
        raise SpecError(f"{name} is what steps are called that nobody named: give them another name.")
    known = keep_recipe(recipe_to_toml(_named(name, recipe_to_json(steps), source.soft_db)))
    with changing(f"kept the steps of {source.title} as {name}", source.job_id):
        give_recipe(source, source.recipe_json, known.name, source.soft_db)
    return jsonify(slug=known.slug, version=known.version)


def _give_as_told(source: Source, told: list[dict[str, Any]], words: str, also: Sequence[int] | None = None) -> None:
    """The same steps for a source and those that are prepared with it. also: their ids, by default of the address."""
    asked = request.args.getlist("with", type=int) if also is None else also
    name = (source.recipe_name or giving.OWN) if told or source.soft_db else None
    found = [source, *(each for each in _others(source) if each.id in asked)]
    with changing(words, source.job_id):
        for each in found:
            give_recipe(each, json.dumps(told) if told else None, name, source.soft_db)
    enqueue_preparations(source.job_id, audio(), [each.id for each in found])


def _named(name: str, steps: Sequence[dict[str, Any]], soft_db: float = 0.0) -> NamedRecipe:
    """Raises SpecError where a name or a step is none."""
    try:
        return NamedRecipe.model_validate({"recipe": {"name": name}, "steps": steps, "limiter": {"soft_db": soft_db}})
    except ValidationError as error:
        key, reason = problem_of(error)
        raise SpecError(f"{key}: {reason}.", key) from error


def _checked(text: str) -> list[dict[str, Any]]:
    """Steps as a page tells them. Raises SpecError where one is none."""
    told = _told(text)
    _named(giving.OWN, [_plain(each) for each in told])
    return told


def _told(text: str) -> list[dict[str, Any]]:
    try:
        told = json.loads(text)
    except ValueError:
        told = None
    if not isinstance(told, list) or not all(isinstance(each, dict) for each in told):
        raise SpecError("The steps are not readable.")
    return told


def _plain(told: dict[str, Any]) -> dict[str, Any]:
    return {key: value for key, value in told.items() if key != OFF}


def _measured_or_404(source_id: int) -> Source:
    source = source_or_404(source_id)
    if source.state != "measured":
        abort(404)
    return source


def _drawn(source: Source, width: int) -> dict[str, Any]:
    """What the screen and its rows show."""
    contents, reading = contents_of(source), load_reading(source.digest, audio())
    steps = steps_with_off(source)
    on = [step for step, is_off in steps if not is_off]
    made = sketch(reading.source.shape, Hops.of(reading), on, contents.found_by(found_of))
    last = made[-1] if made else None
    prepared, is_pending = _prepared(contents)
    peaks = prepared.curves.peaks if prepared else last.hops.peaks if last else reading.curves.peaks
    chain = last.after if last else None
    highest = max(float(reading.curves.peaks.max(initial=0.0)), float(peaks.max(initial=0.0)), 1e-9)
    duration_s = reading.source.duration_s
    return {
        "source": source,
        "reading": reading,
        "prepared": prepared,
        "is_pending": is_pending,
        "rows": rows_of(
            [(step, is_off, recipe_to_json((step,))[0]) for step, is_off in steps],
            made,
            _harms(steps),
            duration_s,
            width,
            lambda hz, order: level_of_what_is_under(source.digest, hz, order, audio()),
        ),
        "width": width,
        "height": STRIP_HEIGHT,
        "wave_height": WAVE_HEIGHT,
        "came": draw_waveform(reading.curves.peaks / highest, None, duration_s, width),
        "becomes": draw_waveform(peaks / highest, chain, duration_s, width) if chain else "",
        "length_s": last.shape.duration_s if last else duration_s,
        "times": times_of(duration_s, width),
        "length_words": length_words,
        "facts": facts_line(reading),
        "sheet": _sheet(source, contents),
        "by": giving.called(source.recipe_name, on, recipe_named(source.recipe_name or "")),
    }


def _sheet(source: Source, contents: Contents) -> HearingSheet | None:
    """What can be heard; nothing until what steps find is known, or where there is nothing to compare."""
    try:
        return steps_sheet(source, audio()) if contents.recipe else None
    except NiceLevelError:
        return None


def _prepared(contents: Contents) -> tuple[Reading | None, bool]:
    """The reading of what a recipe makes, and whether it is still being made."""
    try:
        return load_prepared(contents, contents.recipe, audio()).reading, False
    except NotPreparedError:
        return None, True
    except NiceLevelError:
        return None, False


def _harms(steps: Sequence[tuple[Step, bool]]) -> dict[int, tuple[str, ...]]:
    """The sentences of harm for each step, by its place among all, those that are off being counted too."""
    on = [number for number, (_, is_off) in enumerate(steps) if not is_off]
    found: dict[int, tuple[str, ...]] = {}
    for harm in harms_of([steps[number][0] for number in on]):
        place = on[harm.later]
        found[place] = (*found.get(place, ()), Harm(on[harm.earlier], place, harm.why).sentence)
    return found


@preparing.post("/jobs/<int:job_id>/prepare")
def prepare(job_id: int) -> Any:
    """Give some sources of a job a recipe by its slug; without one they are as they came."""
    found, slug = _sources(job_id), request.form.get("recipe", "")
    recipe = find_recipe(slug).recipe if slug else None
    words = f"prepared {_counted(found)} by {recipe.name}" if recipe else f"left {_counted(found)} as they came"
    with changing(words, job_id):
        for source in found:
            if recipe:
                giving.give_named(source, recipe)
            else:
                giving.give(source, (), None)
    enqueue_preparations(job_id, audio(), [each.id for each in found])
    return jsonify(prepared=len(found))


@preparing.post("/jobs/<int:job_id>/mend")
def mend(job_id: int) -> Any:
    """Mend what was noted of some sources of a job, all that can be mended, or what has one of some codes."""
    codes = request.form.getlist("note") or None
    found = [source for source in _sources(job_id) if source.state == "measured"]
    with changing(f"mended {_counted(found)}", job_id):
        mended = sum(giving.mend(source, load_figures(source.digest, audio()), codes) for source in found)
    enqueue_preparations(job_id, audio(), [each.id for each in found])
    return jsonify(mended=mended)


def recipe_words(source: Source) -> str:
    """What is done to a source first, step after step, and what is wished of limiters."""
    return " ".join(filter(None, (steps_line(recipe_of(source)), soft_line(source.soft_db))))


def _sources(job_id: int) -> list[Source]:
    """The sources that are asked for; of the parts of a sum its leader, which they are prepared with."""
    job_or_404(job_id)
    found = filter(None, map(find_source, request.form.getlist("source", type=int)))
    led = (sum_leader_of(each) or each for each in found if each.job_id == job_id)
    return list({each.id: each for each in led}.values())


def _counted(sources: Sequence[Source]) -> str:
    return sources[0].title if len(sources) == 1 else f"{len(sources)} sources"
