"""The reading of a source: its page, and what its time view draws from."""

import numpy as np
from flask import Blueprint, Response, abort, render_template

from nicelevel.core.files.between import kept_open
from nicelevel.core.measure.waveform import LEVELS
from nicelevel.core.values import Reading
from nicelevel.desk.dialogue import dialogue_in
from nicelevel.desk.hearing_sheet import sheet_of
from nicelevel.desk.mending import mended_codes
from nicelevel.desk.roll import with_neighbour_notes
from nicelevel.report.reading_view import (
    GRAVE,
    drawing_data,
    facts_line,
    figure_groups,
    reading_text,
    series_bytes,
    speech_figures,
)
from nicelevel.store.models import Source
from nicelevel.store.readings import is_measured, load_reading

from .found import audio, source_or_404

readings = Blueprint("readings", __name__)

CHUNK_BINS = 2048
CHUNK_FRAMES = 16384
KEPT_S = 3600
SPEECH_AT_ONCE_S = 1_200
"""Who speaks when is told by itself of what is no longer; else it is asked for."""
BINARY = "application/octet-stream"


@readings.get("/sources/<int:source_id>/reading")
def show(source_id: int) -> str:
    """The Reading screen."""
    source = source_or_404(source_id)
    reading = with_neighbour_notes(source, _reading_or_404(source), audio())
    data = {**drawing_data(reading), "chunk_bins": CHUNK_BINS, "chunk_frames": CHUNK_FRAMES}
    return render_template(
        "reading/reading.html",
        source=source,
        reading=reading,
        groups=figure_groups(reading),
        facts=facts_line(reading),
        text=reading_text(source.title, reading),
        data=data,
        grave_notes=GRAVE,
        mended_codes=mended_codes(),
        listens_at_once=reading.source.duration_s <= SPEECH_AT_ONCE_S,
        sheet=sheet_of(source, None, audio()),
    )


@readings.get("/sources/<int:source_id>/series")
def series(source_id: int) -> Response:
    """Loudness and correlation over time, as float32."""
    return _binary(series_bytes(_reading_or_404(source_or_404(source_id))))


@readings.get("/sources/<int:source_id>/speech")
def speech(source_id: int) -> str:
    """What is spoken by itself: asked for after the page, for all of the file is heard."""
    source = source_or_404(source_id)
    _reading_or_404(source)
    return render_template("reading/_speech.html", figures=speech_figures(dialogue_in(source.digest, audio())))


@readings.get("/sources/<int:source_id>/waveform/<int:level>/<int:chunk>")
def waveform(source_id: int, level: int, chunk: int) -> Response:
    """Some bins of a level, as int16: bins × channels × (low, high, level)."""
    source = source_or_404(source_id)
    path = audio().waveform_path(source.digest, level)
    if level >= LEVELS or not path.exists():
        abort(404)
    bins = np.load(path, mmap_mode="r")
    return _binary(np.asarray(bins[chunk * CHUNK_BINS : (chunk + 1) * CHUNK_BINS]).tobytes())


@readings.get("/sources/<int:source_id>/samples/<int:chunk>")
def samples(source_id: int, chunk: int) -> Response:
    """Some frames × channels, as float32."""
    source = source_or_404(source_id)
    with kept_open(audio().playable_path(source.digest)) as opened:
        first = min(chunk * CHUNK_FRAMES, opened.source.frames)
        last = min(first + CHUNK_FRAMES, opened.source.frames)
        return _binary(opened.window(first, last).astype("<f4", copy=False).tobytes())


def _reading_or_404(source: Source) -> Reading:
    if not is_measured(source.digest):
        abort(404)
    return load_reading(source.digest, audio())


def _binary(data: bytes) -> Response:
    """Contents never change, so the browser may keep what it was given."""
    return Response(data, mimetype=BINARY, headers={"Cache-Control": f"private, max-age={KEPT_S}"})
