"""Handing over: what the package holds before and after it is written, its papers, sending it, what was answered."""

from typing import Any
from urllib.parse import quote

from flask import Blueprint, Response, current_app, jsonify, render_template, request, stream_with_context

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
