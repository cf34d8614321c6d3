"""Lines: drawn, changed, taken in and out as TOML, taken away; and each line's day in figures."""

import csv
import io
from collections.abc import Mapping, Sequence
from datetime import UTC, date, datetime
from typing import Any

from flask import Blueprint, Response, abort, current_app, jsonify, render_template, request, url_for

from nicelevel.core.arrivals import LineSettings
from nicelevel.core.arrivals.drift import drift_of
from nicelevel.core.arrivals.schedule import day_span, schedule_words
from nicelevel.core.arrivals.settings import line_of, line_to_toml, parse_line
from nicelevel.core.clock import clock_of
from nicelevel.core.errors import SpecError
from nicelevel.core.slugs import slug_of
from nicelevel.core.toml import LARGEST_TOML_BYTES
from nicelevel.desk.lines import refuse_outside
from nicelevel.handover.receiver import checked_address
from nicelevel.report.arrivals_view import day_words
from nicelevel.report.arrivals_words import DAY_COLUMNS, day_rows, day_sums, drift_words
from nicelevel.store.arrivals import arrivals_between, latest_counted
from nicelevel.store.lines import add_line, change_line, settings_of, trash_line
from nicelevel.store.models import Line
from nicelevel.store.recipes import find_recipe, known_recipes
from nicelevel.store.specs import known_specs, newest_version
from nicelevel.store.undo import changing

from .arrivals import line_or_404

lines = Blueprint("lines", __name__, url_prefix="/arrivals/lines")

SWITCHES = ("subfolders", "runs")
LOOKED_BACK = 200
"""Arrivals before a day that a drift is told from."""


@lines.get("/new")
def new() -> str:
    """The form for a new line."""
    desk = current_app.config["NICE_LEVEL"].alarm_address
    empty = LineSettings.model_construct(name="", folder="", hook=desk, spec="podcast", under="{title}")
    return render_template("arrivals/line.html", line=None, told=empty, **_choices())


@lines.get("/<int:line_id>")
def edit(line_id: int) -> str:
    """The form of a line as it is."""
    line = line_or_404(line_id)
    return render_template("arrivals/line.html", line=line, told=settings_of(line), **_choices())


@lines.post("/")
def add() -> Any:
    """Draw a line: it begins to take what comes, unless it is stopped."""
    with changing("drew a line"):
        line = add_line(_told(request.form))
    return jsonify(line=line.id, address=url_for("arrivals.index"))


@lines.post("/<int:line_id>")
def change(line_id: int) -> Any:
    """From the next arrival on; what is under way goes on as it was begun."""
    line = line_or_404(line_id)
    with changing(f"changed the line {settings_of(line).name}"):
        change_line(line, _told(request.form))
    return jsonify(line=line.id, address=url_for("arrivals.index"))


@lines.post("/<int:line_id>/delete")
def delete(line_id: int) -> Any:
    """Nothing is taken any more; what was published stays, and Z brings the line back."""
    line = line_or_404(line_id)
    with changing(f"took the line {settings_of(line).name} away"):
        trash_line(line)
    return jsonify(line=line.id, address=url_for("arrivals.index"))


@lines.get("/<int:line_id>.toml")
def toml(line_id: int) -> Response:
    """A line as the file that it can be kept as."""
    settings = settings_of(line_or_404(line_id))
    headers = {"Content-Disposition": f'attachment; filename="{slug_of(settings.name, "line")}.toml"'}
    return Response(line_to_toml(settings), mimetype="application/toml", headers=headers)


@lines.post("/import")
def take_in() -> Any:
    """A line from a TOML file, its bytes the body; it is stopped until somebody has looked at it."""
    try:
        text = request.stream.read(LARGEST_TOML_BYTES + 1).decode("utf-8-sig")
    except UnicodeDecodeError as error:
        raise SpecError("The file is not readable as text.") from error
    settings = parse_line(text, request.args.get("name", "line")).model_copy(update={"runs": False})
    _refuse_outside(settings)
    with changing("took a line in"):
        line = add_line(settings)
    return jsonify(line=line.id, address=url_for("lines.edit", line_id=line.id))


@lines.get("/<int:line_id>/<day>")
def daily(line_id: int, day: str) -> str:
    """What came on a day, in figures; what has changed about it."""
    line, on = line_or_404(line_id), _date(day)
    came = _came(line, on)
    today = datetime.fromtimestamp(clock_of(current_app.config["NICE_LEVEL"].arrivals_clock).now_s()).date()
    return render_template(
        "arrivals/daily.html",
        line=line,
        told=settings_of(line),
        schedule=schedule_words(settings_of(line).expected),
        day=on,
        day_words=day_words(on, today),
        columns=DAY_COLUMNS,
        rows=day_rows(came),
        sums=day_sums(came),
        drift=_drift(line, on),
    )


@lines.get("/<int:line_id>/<day>.csv")
def daily_csv(line_id: int, day: str) -> Response:
    """The same as CSV, a row for each arrival."""
    line, on = line_or_404(line_id), _date(day)
    text = io.StringIO()
    csv.writer(text).writerows(
        [[title for title, _ in DAY_COLUMNS], *(row.cells for row in day_rows(_came(line, on)))]
    )
    name = f"{slug_of(settings_of(line).name, 'line')} {on}.csv"
    headers = {"Content-Disposition": f'attachment; filename="{name}"'}
    return Response("\ufeff" + text.getvalue(), mimetype="text/csv", headers=headers)


def _came(line: Line, day: date) -> Sequence[Any]:
    first, last = (datetime.fromtimestamp(each, UTC) for each in day_span(day))
    return arrivals_between(first, last, line.id)


def _drift(line: Line, day: date) -> str:
    """What has changed about the level of what comes, in a sentence; empty where nothing has."""
    end = datetime.fromtimestamp(day_span(day)[1], UTC)
    came = [
        (each.arrived_at.timestamp(), each.figures["came"]["lufs"])
        for each in latest_counted(line.id, end, LOOKED_BACK)
        if each.figures.get("came") and each.figures["came"]["lufs"] is not None
    ]
    found = drift_of(came)
    return drift_words(found, end) if found else ""


def _date(text: str) -> date:
    try:
        return date.fromisoformat(text)
    except ValueError:
        abort(404)


def _choices() -> dict[str, Any]:
    return {
        "specs": {"": "nothing: it is only looked at"}
        | {slug: each.spec.spec.name for slug, each in known_specs().items()},
        "recipes_by_slug": {"": "no recipe"} | {slug: each.name for slug, each in known_recipes().items()},
    }


def _refuse_outside(settings: LineSettings) -> None:
    refuse_outside(settings, current_app.config["NICE_LEVEL"].line_bounds)


def _told(form: Mapping[str, str]) -> LineSettings:
    """What was typed; minutes become seconds. Raises SpecError."""
    told: dict[str, Any] = {key: form[key] for key in LineSettings.model_fields if key in form}
    told |= {key: key in form for key in SWITCHES}
    for key in ("late_after_s", "shortest_s", "longest_s", "settle_s"):
        text = str(told.get(key, "")).strip()
        told[key] = text if text else LineSettings.model_fields[key].default
    if not told.get("expected"):
        told["expected"] = ""
    settings = line_of(told)
    _refuse_outside(settings)
    if settings.spec:
        newest_version(settings.spec)
    if settings.recipe:
        find_recipe(settings.recipe)
    if settings.hook:
        checked_address(settings.hook)
    return settings
