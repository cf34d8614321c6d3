"""Hearing: pieces of sound as the player asks for them, and blind comparisons."""

import math
from typing import Any, get_args

from flask import Blueprint, Response, abort, current_app, jsonify, render_template, request

from nicelevel.core.errors import UnsupportedError
from nicelevel.core.hear import DifferenceOf, Finish, heard_piece
from nicelevel.core.hear.blind import FEWEST_TRIALS
from nicelevel.core.hear.programmes import NoiseKind, Samples
from nicelevel.core.signals import Seekable
from nicelevel.core.units import ratio_from_db
from nicelevel.desk.hearing import opened, opened_noise
from nicelevel.desk.hearing_sheet import HIGHEST_RATE_HZ, LOWEST_RATE_HZ, joins_json, sheet_of
from nicelevel.report.before_after import Side, both_data, both_series_bytes, columns_bytes
from nicelevel.store.blind_tests import answer_blind_test, begin_blind_test, find_blind_test, hidden_in, score_of
from nicelevel.store.models import BlindTest

from .comparing import changes_of, compare, sides_of
from .found import audio, destination_or_404, job_or_404, source_or_404

hearing = Blueprint("hearing", __name__)

KEPT_S = 3600
WIDEST_GAIN_DB = 60.0


@hearing.get("/hear/<key>/<int:rate_hz>/<int:piece>")
def piece(key: str, rate_hz: int, piece: int) -> Response:
    """A second of a take as float32, frames × 2; of a plan also rounded or through its encoder."""
    finish = _one_of(get_args(Finish), request.args.get("finish", "exact"))
    with opened(key, audio(), _folder(), finish) as programme:
        return sound_of(second_of(programme, rate_hz, piece))


@hearing.get("/hear/<key>/less/<other>/<int:rate_hz>/<int:piece>")
def difference(key: str, other: str, rate_hz: int, piece: int) -> Response:
    """A second of what is left of a take when another is taken away, each after its gain."""
    gains_db = _gain("gain"), _gain("less")
    with opened(key, audio(), _folder()) as one, opened(other, audio(), _folder()) as two:
        return sound_of(second_of(DifferenceOf(one, two, *gains_db), rate_hz, piece))


@hearing.get("/hear/<key>/noise/<kind>/<int:rate_hz>/<int:piece>")
def noise(key: str, kind: str, rate_hz: int, piece: int) -> Response:
    """A second of what the last rounding adds to a plan: rounded alone, with TPDF or with shaped dither."""
    with opened_noise(key, _one_of(get_args(NoiseKind), kind), audio()) as programme:
        return sound_of(second_of(programme, rate_hz, piece))


@hearing.get("/sources/<int:source_id>/hear")
def sheet(source_id: int) -> str:
    """The transport of a source, at a destination where one is given."""
    destination = request.args.get("destination", type=int)
    found = sheet_of(source_or_404(source_id), destination_or_404(destination) if destination else None, audio())
    return render_template("hear/transport.html", sheet=found)


@hearing.get("/jobs/<int:job_id>/joins/<int:destination_id>")
def joins(job_id: int, destination_id: int) -> Any:
    """What is played to hear the joins of some sources of a job, in the order that is asked for."""
    job_or_404(job_id)
    sources = [source_or_404(each) for each in request.args.getlist("source", type=int)]
    here = [each for each in sources if each.job_id == job_id]
    return jsonify(joins_json(here, destination_or_404(destination_id), audio()))


@hearing.get("/sources/<int:source_id>/compare/<int:destination_id>")
def show(source_id: int, destination_id: int) -> str:
    """The Before-and-after screen: of a source and its plan, or against another version."""
    source, destination = source_or_404(source_id), destination_or_404(destination_id)
    shown = compare(source, destination, audio(), request.args.get("against"))
    return render_template(
        "hear/compare.html", shown=shown, data=both_data(shown.before, shown.after, shown.band_lufs)
    )


@hearing.get("/sources/<int:source_id>/changed/<int:older_id>")
def changed(source_id: int, older_id: int) -> str:
    """What became of an older version, in sentences."""
    source, older = source_or_404(source_id), source_or_404(older_id)
    if {source.state, older.state} != {"measured"} or source.job_id != older.job_id:
        abort(404)
    sentences, is_pending = changes_of(older, source, audio())
    return render_template("hear/_changed.html", sentences=sentences, is_pending=is_pending)


@hearing.get("/sources/<int:source_id>/compare/<int:destination_id>/columns")
def columns(source_id: int, destination_id: int) -> Response:
    """The part of both that is looked at, one column for each pixel."""
    before, after = _sides(source_id, destination_id)
    first_s, last_s = request.args.get("first", 0.0, float), request.args.get("last", 0.0, float)
    longest_s = max(before.duration_s, after.duration_s)
    if not 0.0 <= first_s < last_s <= longest_s + 1.0:
        abort(400)
    count = request.args.get("count", 1000, type=int)
    return _binary(columns_bytes(before, after, first_s, last_s, count))


@hearing.get("/sources/<int:source_id>/compare/<int:destination_id>/series")
def series(source_id: int, destination_id: int) -> Response:
    """Loudness over time of both."""
    return _binary(both_series_bytes(*_sides(source_id, destination_id)))


def _sides(source_id: int, destination_id: int) -> tuple[Side, Side]:
    source, destination = source_or_404(source_id), destination_or_404(destination_id)
    return sides_of(source, destination, audio(), request.args.get("against"))[:2]


@hearing.post("/sources/<int:source_id>/blind")
def begin(source_id: int) -> Any:
    """Begin a blind comparison of two takes, by their keys, at the gains that make them equally loud."""
    source = source_or_404(source_id)
    destination = request.form.get("destination", type=int)
    sheet = sheet_of(source, destination_or_404(destination) if destination else None, audio())
    asked = [request.form.get(name, "") for name in ("one", "other")]
    heard = {each.take.key: each for each in sheet.heard} if sheet else {}
    if len(set(asked)) < 2 or not set(asked) <= set(heard):
        abort(404)
    one, other = (heard[key] for key in asked)
    names = one.take.name, other.take.name
    test = begin_blind_test(source, (one.take.key, other.take.key), names, (one.gain_db, other.gain_db))
    return _trial(test)


@hearing.get("/blind/<int:test_id>/<int:trial>/<int:rate_hz>/<int:piece>")
def hidden(test_id: int, trial: int, rate_hz: int, piece: int) -> Response:
    """A second of what a trial hides, with its gain: nothing in the answer says which of the two it is."""
    found = hidden_in(_test_or_404(test_id), trial)
    if found is None:
        abort(404)
    key, gain_db = found
    with opened(key, audio(), _folder()) as programme:
        return sound_of(second_of(programme, rate_hz, piece) * ratio_from_db(gain_db), keeps=False)


@hearing.post("/blind/<int:test_id>/answer")
def answer(test_id: int) -> Any:
    """Keep what was said of a trial; the next one and how it stands, drawn."""
    _test_or_404(test_id)
    test = answer_blind_test(test_id, request.form.get("trial", -1, type=int), request.form.get("said", ""))
    return _trial(test)


def _trial(test: BlindTest) -> str:
    return render_template("hear/_blind.html", test=test, score=score_of(test), fewest=FEWEST_TRIALS)


def _test_or_404(test_id: int) -> BlindTest:
    return find_blind_test(test_id) or abort(404)


def second_of(programme: Seekable, rate_hz: int, piece: int) -> Samples:
    """Frames × 2 of a second as it is played. Raises UnsupportedError for a rate that no browser plays."""
    if not LOWEST_RATE_HZ <= rate_hz <= HIGHEST_RATE_HZ:
        raise UnsupportedError(f"Sound is played at {LOWEST_RATE_HZ} to {HIGHEST_RATE_HZ} Hz.")
    if piece * programme.shape.rate_hz > programme.shape.frames:
        abort(404)
    return heard_piece(programme, rate_hz, piece * rate_hz, (piece + 1) * rate_hz)


def sound_of(samples: Samples, keeps: bool = True) -> Response:
    """Addresses carry a stamp of what is heard, so the browser may keep what it was given."""
    return _binary(samples.astype("<f4").tobytes(), f"private, max-age={KEPT_S}" if keeps else "no-store")


def _binary(data: bytes, caching: str = "no-store") -> Response:
    return Response(data, mimetype="application/octet-stream", headers={"Cache-Control": caching})


def _gain(name: str) -> float:
    gain_db = request.args.get(name, 0.0, type=float)
    if not math.isfinite(gain_db) or abs(gain_db) > WIDEST_GAIN_DB:
        abort(400)
    return gain_db


def _one_of(choices: tuple[Any, ...], asked: str) -> Any:
    if asked not in choices:
        abort(404)
    return asked


def _folder() -> Any:
    return current_app.config["NICE_LEVEL"].deliverables_folder
