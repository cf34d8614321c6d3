"""Runs: what is being rendered on all jobs, how long it will take, what failed and why."""

import shutil
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any

from flask import Blueprint, current_app, g, jsonify, render_template

from nicelevel.desk.runs import UnderWay, under_way
from nicelevel.report.words import megabytes
from nicelevel.store.deliverables import stop_deliverables
from nicelevel.store.models import Deliverable
from nicelevel.store.runs import ended_lately, named, worker_count

from .for_programs import deliverable_row_json, wants_json
from .found import audio

runs = Blueprint("runs", __name__)

SHOWN_WAITING, SHOWN_ENDED = 60, 40

SCARCE_BYTES, SCARCE_SHARE = 3_000_000_000, 0.03
"""With less than the larger of these the disk is about to be full."""


@dataclass(frozen=True)
class Runs:
    """The first of what is under way, with the seconds until each is done; all of it in figures; what ended."""

    shown: tuple[tuple[Deliverable, float | None], ...]
    under_way: tuple[UnderWay, ...]
    ended: tuple[Deliverable, ...]

    @property
    def rendering(self) -> int:
        return sum(each.state == "rendering" for each in self.under_way)

    @property
    def left_s(self) -> float | None:
        return _latest(self.under_way)


@dataclass(frozen=True)
class Running:
    """What the top line of every page says: how many are to be rendered, and how long that takes."""

    under_way: tuple[UnderWay, ...]

    @property
    def count(self) -> int:
        return len(self.under_way)

    @property
    def left_s(self) -> float | None:
        return _latest(self.under_way)


def add_running() -> dict[str, Callable[[], Any]]:
    """Asked of the database only where a page says it."""
    return {"running": lambda: Running(_under_way()), "disk": disk_note}


def disk_note() -> str:
    """A word about the disk before it is full; nothing while there is room."""
    usage = shutil.disk_usage(current_app.config["NICE_LEVEL"].data_folder)
    if usage.free > max(SCARCE_BYTES, SCARCE_SHARE * usage.total):
        return ""
    return f"The disk is nearly full: {megabytes(usage.free)} MB are free"


def _under_way() -> tuple[UnderWay, ...]:
    """Looked up once for a page, which says it in its top line and may list it too."""
    if "under_way" not in g:
        at_once = worker_count() * current_app.config["NICE_LEVEL"].worker_jobs
        g.under_way = tuple(under_way(audio(), at_once))
    found: tuple[UnderWay, ...] = g.under_way
    return found


def _latest(waiting: Sequence[UnderWay]) -> float | None:
    """When all of it is done; None where that cannot be told of some."""
    ends = [each.end_s for each in waiting]
    known = [end_s for end_s in ends if end_s is not None]
    return max(known) if known and len(known) == len(ends) else None


def _runs() -> Runs:
    waiting = _under_way()
    ends = {each.deliverable_id: each.end_s for each in waiting}
    shown = tuple((each, ends[each.id]) for each in named([each.deliverable_id for each in waiting[:SHOWN_WAITING]]))
    return Runs(shown, waiting, tuple(ended_lately(SHOWN_ENDED)))


@runs.get("/runs")
def index() -> Any:
    """What is being rendered and what waits, of all jobs; what ended last."""
    if wants_json():
        found = _runs()
        shown = [{**deliverable_row_json(made), "left_s": left_s} for made, left_s in found.shown]
        ended = [deliverable_row_json(each) for each in found.ended]
        return jsonify(count=len(found.under_way), left_s=found.left_s, under_way=shown, ended=ended)
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
