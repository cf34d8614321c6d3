"""What is of the house: its journal, and the settings that hold."""

import os
import shutil
from datetime import datetime
from typing import Any

from flask import Blueprint, current_app, jsonify, redirect, render_template, request, url_for

from nicelevel.config import GIVEN, PREFIX, SETTINGS, Config
from nicelevel.report.words import megabytes
from nicelevel.store.journal import enter, journal, who_did
from nicelevel.work.room import free_copies, taken_room

from .for_programs import entry_json, wants_json
from .found import job_or_404

house = Blueprint("house", __name__)

ENTRIES = 200
SECRET_SETTINGS = ("database_url",)


@house.get("/jobs/<int:job_id>/journal")
def of_job(job_id: int) -> Any:
    """Every change of a job: who, when, in words."""
    return _journal(job_id, job=job_or_404(job_id))


@house.get("/journal")
def of_house() -> Any:
    """The same of what belongs to no job: specs, recipes, lines, people."""
    return _journal(None, job=None)


def _journal(job_id: int | None, **shown: Any) -> Any:
    who, words = request.args.get("who", ""), request.args.get("words", "")
    before = request.args.get("before", type=int)
    entries = journal(job_id, who, words, before, ENTRIES + 1)
    if wants_json():
        return jsonify(entries=[entry_json(each) for each in entries[:ENTRIES]])
    return render_template(
        "house/journal.html",
        days=_by_day(entries[:ENTRIES]),
        oldest=entries[ENTRIES - 1].id if len(entries) > ENTRIES else None,
        everybody=who_did(job_id),
        who=who,
        words=words,
        **shown,
    )


def _by_day(entries: Any) -> list[tuple[str, list[Any]]]:
    """Entries under the day on which they were made, as it is called today."""
    days: dict[str, list[Any]] = {}
    for each in entries:
        days.setdefault(f"{each.at.astimezone():%A %-d %B %Y}", []).append(each)
    return list(days.items())


@house.get("/room")
def room() -> Any:
    """What takes room on the disk, what of it may go, and when it goes by itself."""
    found = taken_room(_config())
    usage = shutil.disk_usage(_config().data_folder)
    if wants_json():
        kinds = [{"name": each.name, "size_bytes": each.size_bytes, "goes": each.goes} for each in found]
        return jsonify(kinds=kinds, free_bytes=usage.free, total_bytes=usage.total)
    return render_template("house/room.html", found=found, usage=usage)


@house.post("/room/copies")
def let_copies_go() -> Any:
    """Let go of all copies that were made to be heard; they are made again when they are."""
    freed_bytes = free_copies(_config())
    enter(f"let go of copies for hearing, which freed {megabytes(freed_bytes)} MB")
    if wants_json():
        return jsonify(freed_bytes=freed_bytes)
    return redirect(url_for("house.room"))


@house.get("/settings")
def settings() -> str:
    """What holds, and where it is from."""
    config = _config()
    rows = [(PREFIX + each.name.upper(), _shown(config, each.name), _from(each.name), each) for each in SETTINGS]
    return render_template("house/settings.html", rows=rows, now=datetime.now().astimezone())


def _config() -> Config:
    config: Config = current_app.config["NICE_LEVEL"]
    return config


def _shown(config: Config, name: str) -> str:
    told = config.environment()[PREFIX + name.upper()]
    if name in SECRET_SETTINGS and told:
        return "given, not shown"
    return told or "–"


def _from(name: str) -> str:
    """Where a setting's value is from, in words."""
    key = PREFIX + name.upper()
    if key in os.environ.get(GIVEN, key).split():
        return "set" if key in os.environ else "as it comes"
    setting = next(each for each in SETTINGS if each.name == name)
    return "as it comes" if os.environ.get(key, setting.default) == setting.default else "found at the start"
