"""The Arrivals screen: the day of every line, what became of each arrival, what can be done about it."""

from datetime import UTC, date, datetime, timedelta
from pathlib import Path
from typing import Any

from flask import Blueprint, Response, abort, current_app, jsonify, render_template, request

from nicelevel.core.arrivals.schedule import day_span, expected_on, schedule_words
from nicelevel.core.clock import Clock, clock_of
from nicelevel.core.errors import SpecError
from nicelevel.desk.hearing_arrivals import ROLES, arrival_sheet, opened_arrival
from nicelevel.desk.lines import can_put_back, put_back, refuse_outside
from nicelevel.report import arrivals_view as view
from nicelevel.store.arrivals import arrivals_between, find_arrival, on_air, tellings_of
from nicelevel.store.journal import enter
from nicelevel.store.lines import find_line, lines, settings_of
from nicelevel.store.models import Arrival, Line
from nicelevel.store.recipes import known_recipes
from nicelevel.store.specs import known_specs
from nicelevel.store.undo import redo, undo
from nicelevel.work.arriving import do_again

from .for_programs import arrival_json, line_json, wants_json
from .hearing import second_of, sound_of

arrivals = Blueprint("arrivals", __name__, url_prefix="/arrivals")

NARROWEST_PX, WIDEST_PX, WIDTH_PX = 700, 4_000, 1_280
Names = tuple[dict[str, str], dict[str, str]]
"""Of recipes and of specs, by their slugs."""

TELL_PX = 380
"""Of what is told beside the waveforms."""


@arrivals.get("/")
def index() -> Any:
    """The day of every line: what came, and what became of it."""
    day = _day()
    if wants_json():
        first, last = (datetime.fromtimestamp(each, UTC) for each in day_span(day))
        came = arrivals_between(first, last)
        return jsonify(lines=[line_json(each) for each in lines()], arrivals=[arrival_json(each) for each in came])
    return render_template("arrivals/arrivals.html", **_shown(day), **_chosen(_latest(day)))


@arrivals.get("/parts")
def parts() -> str:
    """What the page swaps in when something has come or ended."""
    asked = request.args.get("arrival", type=int)
    return render_template("arrivals/parts.html", **_shown(_day()), **_chosen(find_arrival(asked) if asked else None))


@arrivals.post("/undo")
def undo_here() -> Any:
    """Take the last change of the lines back, or with `again` do it once more."""
    words = redo(of_lines=True) if "again" in request.form else undo(of_lines=True)
    return jsonify(undone=words)


@arrivals.post("/<int:arrival_id>/all-the-same")
def all_the_same(arrival_id: int) -> Any:
    """Publish it whatever it is like."""
    return _again(_arrival_or_404(arrival_id), is_forced=True)


@arrivals.post("/<int:arrival_id>/again")
def again(arrival_id: int) -> Any:
    """Do it once more, by what its line asks for now."""
    return _again(_arrival_or_404(arrival_id), is_forced=False)


def _again(arrival: Arrival, is_forced: bool) -> Any:
    if arrival.state == "missing":
        raise SpecError("Nothing came that could be published.")
    if not do_again(arrival, is_forced, _clock()):
        raise SpecError("It is under way already.")
    name = settings_of(arrival.line).name
    enter(f"had {arrival.name} of {name} {'published all the same' if is_forced else 'done again'}")
    return jsonify(arrival=arrival.id)


@arrivals.post("/lines/<int:line_id>/put-back")
def back_on_air(line_id: int) -> Any:
    """What was published under a name before is on air again; what is now is the one before, then."""
    line = line_or_404(line_id)
    under = request.form.get("under", "")
    refuse_outside(settings_of(line), current_app.config["NICE_LEVEL"].line_bounds)
    of = put_back(line, under, _clock())
    enter(f"put what {under} was before back on air, of {settings_of(line).name}")
    return jsonify(of=of)


@arrivals.get("/<int:arrival_id>/hear/<role>/<int:rate_hz>/<int:piece>")
def hear(arrival_id: int, role: str, rate_hz: int, piece: int) -> Response:
    """A second of what came, or of what went out."""
    if role not in ROLES:
        abort(404)
    with opened_arrival(_arrival_or_404(arrival_id), role, _folder()) as signal:
        return sound_of(second_of(signal, rate_hz, piece))


def _shown(day: date) -> dict[str, Any]:
    width = min(max(request.args.get("width", WIDTH_PX, type=int), NARROWEST_PX), WIDEST_PX)
    first, last = (datetime.fromtimestamp(each, UTC) for each in day_span(day))
    now_s = _clock().now_s()
    drawn, came = lines(), arrivals_between(first, last)
    by_line: dict[int, list[Arrival]] = {}
    for each in came:
        by_line.setdefault(each.line_id, []).append(each)
    recipes = {slug: each.name for slug, each in known_recipes().items()}
    names = recipes, {slug: each.spec.spec.name for slug, each in known_specs().items()}
    tubes = [
        _tube(line, number, by_line.get(line.id, []), names, day, width, now_s) for number, line in enumerate(drawn)
    ]
    known = {line.id for line in drawn}
    today = datetime.fromtimestamp(now_s).date()
    height = view.TOP_PX + view.ROW_PX * max(1, len(drawn)) + 6
    is_today = day == today
    now_x = view.place_of(now_s, day, width) if is_today else None
    return {
        "day": view.Day(day, width, height, view.hours_of(day, width), now_x, tuple(tubes)),
        "day_words": view.day_words(day, today),
        "counts": view.counts_words([each for each in came if each.line_id in known]),
        "before": day - timedelta(days=1),
        "after": day + timedelta(days=1) if day < today else None,
        "is_today": is_today,
        "clock": datetime.fromtimestamp(now_s),
        "clock_speed": _clock().speed,
        "state_words": view.state_words,
    }


def _tube(
    line: Line, number: int, came: list[Arrival], names: Names, day: date, width: int, now_s: float
) -> view.Tube:
    settings = settings_of(line)
    bubbles = [view.bubble_of(each, day, width) for each in came]
    times = expected_on(settings.expected, day) if settings.runs else ()
    bubbles += view.expected_bubbles(times, now_s, day, width)
    to = f"→ {settings.under}" if settings.spec else "· watched, not published"
    asked = zip((settings.recipe, settings.spec), names, strict=True)
    how = [known.get(slug, slug) for slug, known in asked if slug]
    return view.Tube(
        line_id=line.id,
        name=settings.name,
        where=f"{schedule_words(settings.expected)} {to}",
        how=" · ".join(how) or "looked at only",
        y=view.TOP_PX + view.ROW_PX * (number + 0.5),
        bubbles=tuple(bubbles),
        trouble=line.trouble or "",
        runs=settings.runs,
    )


def _chosen(arrival: Arrival | None) -> dict[str, Any]:
    """What is below: the chosen arrival, drawn and told."""
    if arrival is None:
        return {"arrival": None}
    width = min(max(request.args.get("width", WIDTH_PX, type=int), NARROWEST_PX), WIDEST_PX) - TELL_PX
    settings = settings_of(arrival.line)
    air = on_air(arrival.line_id).get(str(arrival.under)) if arrival.under else None
    return {
        "arrival": arrival,
        "settings": settings,
        "sides": view.wave_sides(arrival.figures, width),
        "wave_width": width,
        "tellings": tellings_of(arrival.id),
        "is_on_air": air is not None and air.id == arrival.id,
        "can_put_back": bool(arrival.under) and can_put_back(settings, str(arrival.under)),
        "sheet": arrival_sheet(arrival, _folder()),
        "at": lambda told: f"{datetime.fromtimestamp(told[0]):%H:%M:%S}",
    }


def _latest(day: date) -> Arrival | None:
    """The one that is shown first: asked for, or the last that came, held ones before others."""
    asked = request.args.get("arrival", type=int)
    if asked:
        return find_arrival(asked)
    known = {line.id for line in lines()}
    first, last = (datetime.fromtimestamp(each, UTC) for each in day_span(day))
    came = [each for each in arrivals_between(first, last) if each.line_id in known]
    held = [each for each in came if each.state == "held"]
    best = max(held or came, key=lambda each: each.arrived_at, default=None)
    return find_arrival(best.id) if best else None


def _day() -> date:
    asked = request.args.get("day", "")
    try:
        return date.fromisoformat(asked) if asked else datetime.fromtimestamp(_clock().now_s()).date()
    except ValueError:
        abort(404)


def line_or_404(line_id: int) -> Line:
    return find_line(line_id) or abort(404)


def _arrival_or_404(arrival_id: int) -> Arrival:
    return find_arrival(arrival_id) or abort(404)


def _clock() -> Clock:
    return clock_of(current_app.config["NICE_LEVEL"].arrivals_clock)


def _folder() -> Path:
    folder: Path = current_app.config["NICE_LEVEL"].arrivals_folder
    return folder
