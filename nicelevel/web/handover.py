"""Handing over: what the package holds before and after it is written, its papers, sending it, what was answered."""

import os
import uuid
from typing import Any
from urllib.parse import quote

from flask import Blueprint, Response, current_app, jsonify, render_template, request, send_file, stream_with_context

from nicelevel.core.files.names import safe_name
from nicelevel.handover.joined import Part, can_be_joined, join_parts
from nicelevel.handover.manifest import MANIFEST_NAME
from nicelevel.handover.package import Package, package_of, stream_package
from nicelevel.handover.receiver import shown_address
from nicelevel.store.sendings import end_sending, latest_address
from nicelevel.work.enqueue import enqueue_sending

from .found import audio, job_or_404, sending_or_404
from .handover_tree import Handover, handover_of

handover = Blueprint("handover", __name__)


@handover.get("/jobs/<int:job_id>/handover")
def page(job_id: int) -> str:
    address = latest_address() or current_app.config["NICE_LEVEL"].desk_address
    return render_template("handover/handover.html", handover=_handover(job_id), address=shown_address(address))


@handover.get("/jobs/<int:job_id>/handover/parts")
def parts(job_id: int) -> str:
    """What the page swaps in when something has changed."""
    return render_template("handover/parts.html", handover=_handover(job_id))


@handover.get("/jobs/<int:job_id>/package.zip")
def package(job_id: int) -> Response:
    packed = _package(job_id)
    headers = {"Content-Disposition": f"attachment; filename*=UTF-8''{quote(packed.name)}"}
    stream = stream_with_context(stream_package(packed, audio()))
    return Response(stream, mimetype="application/zip", headers=headers)


@handover.get("/jobs/<int:job_id>/joined.wav")
def joined(job_id: int) -> Response:
    """Some files of the package as programmes of one, written for this answer alone."""
    config, packed = current_app.config["NICE_LEVEL"], _package(job_id)
    config.uploads_folder.mkdir(parents=True, exist_ok=True)
    to = config.uploads_folder / f"{uuid.uuid4().hex}.part"
    join_parts(_parts_asked_for(packed), config.deliverables_folder, to)
    file = to.open("rb")
    to.unlink()  # it stays for as long as it is read
    name = f"{safe_name(packed.job.title)}.wav"
    answer = send_file(file, mimetype="audio/wav", as_attachment=True, download_name=name)
    answer.content_length = os.fstat(file.fileno()).st_size
    return answer


def _parts_asked_for(packed: Package) -> list[Part]:
    """In the order of the numbers that were typed; what is not in the package any more is left out."""
    wanted = set(request.args.getlist("file", type=int))
    chosen = [each for each in packed.deliverables if each.id in wanted and can_be_joined(each)]
    chosen.sort(key=lambda each: request.args.get(f"place-{each.id}", 999, type=int))
    return [Part(each, request.args.get(f"label-{each.id}", "").strip() or each.source.title) for each in chosen]


@handover.get("/jobs/<int:job_id>/manifest.json")
def manifest(job_id: int) -> Response:
    headers = {"Content-Disposition": f"inline; filename={MANIFEST_NAME}"}
    return Response(_package(job_id).manifest, mimetype="application/json", headers=headers)


@handover.get("/jobs/<int:job_id>/checksums.txt")
def checksums(job_id: int) -> Response:
    return Response(_package(job_id).checksums, mimetype="text/plain")


@handover.post("/jobs/<int:job_id>/sendings")
def send(job_id: int) -> Any:
    typed, latest = request.form.get("address", "").strip(), latest_address() or ""
    # A password is not shown; who sends to what is shown means the address with it.
    address = latest if latest and typed == shown_address(latest) else typed
    sending = enqueue_sending(job_or_404(job_id), address)
    return jsonify(sending=sending.id)


@handover.post("/sendings/<int:sending_id>/stop")
def stop(sending_id: int) -> Any:
    return jsonify(stopped=int(end_sending(sending_or_404(sending_id), "stopped")))


def _handover(job_id: int) -> Handover:
    return handover_of(job_or_404(job_id), audio(), current_app.config["NICE_LEVEL"].deliverables_folder)


def _package(job_id: int) -> Package:
    return package_of(job_or_404(job_id), audio(), current_app.config["NICE_LEVEL"].deliverables_folder)
