"""Handing over: what the package holds before and after it is written, its papers, sending it, what was answered."""

import os
import uuid
from dataclasses import replace
from typing import Any
from urllib.parse import quote

from flask import Blueprint, Response, current_app, jsonify, render_template, request, send_file, stream_with_context
from werkzeug.datastructures import MultiDict

from nicelevel.core.contribution import FRAME_RATES, Wanted
from nicelevel.core.errors import NiceLevelError, SpecError
from nicelevel.core.files.names import safe_name
from nicelevel.core.words import counted
from nicelevel.handover.joined import (
    Part,
    contribution_json,
    join_parts,
    parts_of_deliverables,
    parts_of_sources,
    programmes_beside,
    refuse_parts,
)
from nicelevel.handover.manifest import MANIFEST_NAME
from nicelevel.handover.package import Package, package_of, stream_package
from nicelevel.handover.receiver import shown_address
from nicelevel.report.channels_view import ribbon_of
from nicelevel.store.journal import enter
from nicelevel.store.sendings import end_sending, latest_address
from nicelevel.work.enqueue import enqueue_sending

from .clients import shown_links
from .found import audio, job_or_404, sending_or_404
from .handover_tree import Handover, handover_of

handover = Blueprint("handover", __name__)


@handover.get("/jobs/<int:job_id>/handover")
def page(job_id: int) -> str:
    """The Handover screen: the package by folder, before and after it is written."""
    address = latest_address() or current_app.config["NICE_LEVEL"].desk_address
    return render_template("handover/handover.html", address=shown_address(address), **_shown(job_id))


@handover.get("/jobs/<int:job_id>/handover/parts")
def parts(job_id: int) -> str:
    """What the page swaps in when something has changed."""
    return render_template("handover/parts.html", **_shown(job_id))


@handover.get("/jobs/<int:job_id>/package.zip")
def package(job_id: int) -> Response:
    """The package of a job: its files with manifest, checksums and proof."""
    packed = _package(job_id)
    enter(f"downloaded the package, {counted(len(packed.files), 'file')}", job_id)
    headers = {"Content-Disposition": f"attachment; filename*=UTF-8''{quote(packed.name)}"}
    stream = stream_with_context(stream_package(packed, audio()))
    return Response(stream, mimetype="application/zip", headers=headers)


@handover.get("/jobs/<int:job_id>/joined.wav")
def joined(job_id: int) -> Response:
    """Some files of the package as programmes of one, written for this answer alone."""
    config, job = current_app.config["NICE_LEVEL"], job_or_404(job_id)
    config.uploads_folder.mkdir(parents=True, exist_ok=True)
    to = config.uploads_folder / f"{uuid.uuid4().hex}.part"
    parts, wanted = _parts_asked_for(job_id, request.args), _contribution_asked_for(request.args)
    if "check" in request.args:
        return jsonify(problem=_why_not(parts, wanted))
    join_parts(parts, to, wanted)
    file = to.open("rb")
    to.unlink()  # it stays for as long as it is read
    name = f"{safe_name(job.title)}.wav"
    answer = send_file(file, mimetype="audio/wav", as_attachment=True, download_name=name)
    answer.content_length = os.fstat(file.fileno()).st_size
    return answer


def _why_not(parts: list[Part], wanted: Wanted | None) -> str:
    """Why these cannot be one file, as far as their headers tell; empty where they can."""
    try:
        refuse_parts(parts, wanted)
    except NiceLevelError as error:
        return error.message
    return ""


@handover.get("/jobs/<int:job_id>/ribbon")
def ribbon(job_id: int) -> str:
    """The channels that one file of the chosen ones would have, drawn."""
    job_or_404(job_id)
    chosen = _parts_asked_for(job_id, request.args)
    beside = programmes_beside(chosen)
    count = sum(len(each.channels) for each in beside)
    width = min(max(request.args.get("width", 360, type=int), 200), 1_200)
    return render_template("channels/_ribbon.html", ribbon=ribbon_of(beside, count, width), width=width)


@handover.post("/jobs/<int:job_id>/contributions")
def contribute(job_id: int) -> Any:
    """Send some files of the package, or sources, as one contribution."""
    job = job_or_404(job_id)
    parts, wanted = _parts_asked_for(job_id, request.form), _contribution_asked_for(request.form)
    if wanted is None:
        raise SpecError('A contribution says when it begins: "10:00:00:00".')
    refuse_parts(parts, wanted)
    sending = enqueue_sending(job, request.form.get("address", "").strip(), contribution_json(parts, wanted))
    return jsonify(sending=sending.id)


def _contribution_asked_for(typed: MultiDict[str, str]) -> Wanted | None:
    """What the file is to say of its start; None where none was typed."""
    start = typed.get("start", "").strip()
    rate, guard_s = typed.get("frame-rate", "25"), typed.get("guard-s", 0.0, type=float)
    return Wanted(rate, start, guard_s) if start else None


def _parts_asked_for(job_id: int, typed: MultiDict[str, str]) -> list[Part]:
    """In the order of the numbers that were typed; what cannot be had any more is left out."""
    wanted = set(typed.getlist("file"))
    chosen = [each for each in _parts(_package(job_id)) if each.key in wanted]
    chosen.sort(key=lambda each: typed.get(f"place-{each.key}", 999, type=int))
    return [replace(each, label=typed.get(f"label-{each.key}", "").strip() or each.label) for each in chosen]


def _parts(packed: Package) -> list[Part]:
    """What can be a programme of one file: what was proved, then the sources."""
    folder = current_app.config["NICE_LEVEL"].deliverables_folder
    return [*parts_of_deliverables(packed.deliverables, folder), *parts_of_sources(packed.job.id, audio())]


@handover.get("/jobs/<int:job_id>/manifest.json")
def manifest(job_id: int) -> Response:
    """The manifest as it would be in the package now."""
    headers = {"Content-Disposition": f"inline; filename={MANIFEST_NAME}"}
    return Response(_package(job_id).manifest, mimetype="application/json", headers=headers)


@handover.get("/jobs/<int:job_id>/checksums.txt")
def checksums(job_id: int) -> Response:
    """The checksums of the package, as `sha256sum --check` reads them."""
    return Response(_package(job_id).checksums, mimetype="text/plain")


@handover.post("/jobs/<int:job_id>/sendings")
def send(job_id: int) -> Any:
    """Send the package to a receiver."""
    typed, latest = request.form.get("address", "").strip(), latest_address() or ""
    # A password is not shown; who sends to what is shown means the address with it.
    address = latest if latest and typed == shown_address(latest) else typed
    sending = enqueue_sending(job_or_404(job_id), address)
    return jsonify(sending=sending.id)


@handover.post("/sendings/<int:sending_id>/stop")
def stop(sending_id: int) -> Any:
    """Stop a sending."""
    sending = sending_or_404(sending_id)
    stopped = end_sending(sending, "stopped")
    if stopped:
        enter(f"stopped sending to {shown_address(sending.address)}", sending.job_id)
    return jsonify(stopped=int(stopped))


def _shown(job_id: int) -> dict[str, Any]:
    config, shown = current_app.config["NICE_LEVEL"], _handover(job_id)
    return {
        "handover": shown,
        "joinable": _parts(shown.package),
        "frame_rates": FRAME_RATES,
        "contribution_address": config.contribution_address,
        **shown_links(job_id),
    }


def _handover(job_id: int) -> Handover:
    return handover_of(job_or_404(job_id), audio(), current_app.config["NICE_LEVEL"].deliverables_folder)


def _package(job_id: int) -> Package:
    return package_of(job_or_404(job_id), audio(), current_app.config["NICE_LEVEL"].deliverables_folder)
