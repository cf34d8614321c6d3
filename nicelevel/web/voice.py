"""A voice recording, for who knows no numbers: dropped, evened out, levelled, coded, checked, offered."""

from dataclasses import dataclass
from typing import Any

import numpy as np
from flask import Blueprint, jsonify, redirect, render_template, request, url_for
from numpy.typing import NDArray

from nicelevel.core.errors import NiceLevelError
from nicelevel.core.signals import Timeline
from nicelevel.desk.contents import contents_of
from nicelevel.desk.hearing_sheet import HearingSheet, sheet_of
from nicelevel.desk.prepared import load_prepared
from nicelevel.report.prepare_view import WAVE_HEIGHT, draw_waveform
from nicelevel.report.voice_words import Step, done_line, steps_of
from nicelevel.store.database import database
from nicelevel.store.deliverables import KEPT_FILES
from nicelevel.store.jobs import make_job
from nicelevel.store.models import LONGEST_TITLE, Deliverable, Job, Source
from nicelevel.store.readings import load_reading
from nicelevel.store.rules import add_rule

from .board import board_of
from .board_rows import Cell, Row
from .found import audio, job_or_404

voice = Blueprint("voice", __name__)

WIDTH = 1_244
SPEC, RECIPE, FOLDED = "podcast", "even-out-speech", "speech-from-many-channels"
"""−16 LUFS, −19 in one channel, as MP3; every passage within 2 LU of the whole; folded down where there are more
channels than MP3 holds."""


@dataclass(frozen=True)
class Voice:
    """One recording: how far it is, and what there is of it.

    problem: why it went no further; made: the file that is offered; line: what was done, in a sentence; waves: as it
    came and as it was evened out.
    """

    row: Row
    cell: Cell
    steps: tuple[Step, ...]
    problem: str
    made: Deliverable | None
    line: str
    waves: tuple[str, str] | None


@voice.post("/voice")
def new() -> Any:
    """A job for recordings of voices: everything that comes in is mended, evened out and rendered."""
    title = request.form.get("title", "").strip()[:LONGEST_TITLE] or "A voice"
    with database.atomic():
        job = make_job(title, None, [SPEC])
        add_rule(job.id, FOLDED, channels="more", mends=True, renders=True)
        add_rule(job.id, RECIPE, mends=True, renders=True)
    return jsonify(
        id=job.id, board=url_for("voice.page", job_id=job.id), upload=url_for("uploads.begin", job_id=job.id)
    )


@voice.get("/jobs/<int:job_id>/voice")
def page(job_id: int) -> Any:
    """A voice recording, in words: what is done with it, then to hear and to download."""
    job = job_or_404(job_id)
    found = _voices(job)
    if found is None:
        return redirect(url_for("jobs.board", job_id=job_id))
    return render_template("voice/voice.html", job=job, **_shown(found))


@voice.get("/jobs/<int:job_id>/voice/parts")
def parts(job_id: int) -> str:
    """What the page swaps in when something has changed."""
    found = _voices(job_or_404(job_id)) or []
    return render_template("voice/_voices.html", **_shown(found))


def _shown(found: list[Voice]) -> dict[str, Any]:
    return {"voices": found, "sheet": _sheet(found), "width": WIDTH, "height": WAVE_HEIGHT}


def _voices(job: Job) -> list[Voice] | None:
    """Of every source how it stands at the first destination; None where there is none any more."""
    board = board_of(job, audio())
    if not board.destinations:
        return None
    return [_voice(row) for row in board.rows if not row.is_older]


def _voice(row: Row) -> Voice:
    cell = row.cells[0]
    made = next((each for each in cell.deliverables if each.state in KEPT_FILES), None)
    steps, problem = steps_of(row.source, cell.plan, None if cell.is_coming else cell.problem, cell.deliverables)
    line = done_line(made.plan, made.measured) if made and made.plan and made.measured else ""
    return Voice(row, cell, steps, problem, made, line, _waves(row.source) if made else None)


def _waves(source: Source) -> tuple[str, str] | None:
    """Each as high as its own highest sample: what differs is the shape."""
    contents, came = contents_of(source), load_reading(source.digest, audio())
    try:
        evened = load_prepared(contents, contents.recipe, audio())
    except NiceLevelError:
        return None

    def drawn(peaks: NDArray[np.float32], timeline: Timeline | None) -> str:
        return draw_waveform(peaks / max(float(peaks.max()), 1e-9), timeline, came.source.duration_s, WIDTH)

    return drawn(came.curves.peaks, None), drawn(evened.reading.curves.peaks, evened.chain.timeline)


def _sheet(found: list[Voice]) -> HearingSheet | None:
    """What is heard where there is one recording: with several, each has its page."""
    if len(found) != 1 or not found[0].made:
        return None
    return sheet_of(found[0].row.source, found[0].cell.destination, audio())
