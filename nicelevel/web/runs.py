"""Runs: what is being rendered on all jobs, how long it will take, what failed and why."""

import shutil
import time
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from flask import Blueprint, current_app, g, jsonify, render_template

from nicelevel.desk.runs import UnderWay, under_way
from nicelevel.report.words import megabytes
from nicelevel.store.deliverables import stop_deliverables
from nicelevel.store.models import Deliverable
from nicelevel.store.runs import ended_lately, named
from nicelevel.store.watched import workers_alive
from nicelevel.work.app import STALLED_S

from .for_programs import deliverable_row_json, wants_json

runs = Blueprint("runs", __name__)

SHOWN_WAITING, SHOWN_ENDED = 60, 40
SLOW_S = 0.1

SCARCE_BYTES, SCARCE_SHARE = 3_000_000_000, 0.03
"""With less than the larger of these the disk is about to be full."""


@dataclass(frozen=True)
class Runs:
    """The first of what is under way, with the seconds until each is done; all of it in figures; what ended."""

    shown: tuple[tuple[Deliverable, float | None], ...]
    under_way: UnderWay
    ended: tuple[Deliverable, ...]


def add_running() -> dict[str, Callable[[], Any]]:
    """Asked of the database only where a page says it."""
    return {"running": _under_way, "disk": disk_note}


def disk_note() -> str:
    """A word about the disk before it is full; nothing while there is room."""
    usage = shutil.disk_usage(current_app.config["NICE_LEVEL"].data_folder)
    if usage.free > max(SCARCE_BYTES, SCARCE_SHARE * usage.total):
        return ""
    return f"The disk is nearly full: {megabytes(usage.free)} MB are free"


def _under_way() -> UnderWay:
    """Looked up once for a page, which says it in its top line and may list it too.

    Of very much it takes a while to count: then every page is told the same for ten times as long.
    """
    kept = current_app.extensions.setdefault("under_way", {})
    if "under_way" not in g:
        if kept.get("until_s", 0.0) < time.monotonic():
            began_s = time.monotonic()
            at_once = workers_alive(STALLED_S) * current_app.config["NICE_LEVEL"].worker_jobs
            kept["found"] = under_way(at_once, SHOWN_WAITING)
            took_s = time.monotonic() - began_s
            kept["until_s"] = time.monotonic() + 10 * took_s if took_s > SLOW_S else 0.0
        g.under_way = kept["found"]
    found: UnderWay = g.under_way
    return found


def _runs() -> Runs:
    found = _under_way()
    ends = {each.deliverable_id: each.end_s for each in found.first}
    shown = tuple((each, ends[each.id]) for each in named([*ends][:SHOWN_WAITING]))
    return Runs(shown, found, tuple(ended_lately(SHOWN_ENDED)))


@runs.get("/runs")
def index() -> Any:
    """What is being rendered and what waits, of all jobs; what ended last."""
    if wants_json():
        found = _runs()
        shown = [{**deliverable_row_json(made), "left_s": left_s} for made, left_s in found.shown]
        ended = [deliverable_row_json(each) for each in found.ended]
        return jsonify(count=found.under_way.count, left_s=found.under_way.left_s, under_way=shown, ended=ended)
    return render_template("runs/runs.html", runs=_runs())


@runs.get("/runs/parts")
def parts() -> str:
    """What the page swaps in when something has changed."""
    return render_template("runs/parts.html", runs=_runs())


@runs.get("/runs/now")
def now() -> str:
    """What the top line of every page says."""
    return render_template("_running.html")


@runs.post("/runs/stop")
def stop() -> Any:
    """Stop all that waits or is being rendered, of all jobs."""
    return jsonify(stopped=stop_deliverables())
