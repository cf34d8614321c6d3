"""Deliverables: downloading one, stopping it, rendering it again."""

from typing import Any

from flask import Blueprint, abort, current_app, jsonify, send_file

from nicelevel.core.errors import NotFoundError
from nicelevel.store.deliverables import FILE_LOST, KEPT_FILES, end_deliverable, file_of, lose_deliverable
from nicelevel.work.enqueue import enqueue_again

from .found import deliverable_or_404

deliverables = Blueprint("deliverables", __name__)


@deliverables.get("/deliverables/<int:deliverable_id>/file")
def download(deliverable_id: int) -> Any:
    deliverable = deliverable_or_404(deliverable_id)
    if deliverable.state not in KEPT_FILES:
        abort(404)
    path = file_of(deliverable, current_app.config["NICE_LEVEL"].deliverables_folder)
    if not path.is_file():
        lose_deliverable(deliverable, FILE_LOST)
        raise NotFoundError(FILE_LOST)
    return send_file(path, as_attachment=True, download_name=path.name)


@deliverables.post("/deliverables/<int:deliverable_id>/stop")
def stop(deliverable_id: int) -> Any:
    return jsonify(stopped=int(end_deliverable(deliverable_or_404(deliverable_id), "stopped")))


@deliverables.post("/deliverables/<int:deliverable_id>/again")
def again(deliverable_id: int) -> Any:
    return jsonify(queued=int(enqueue_again(deliverable_or_404(deliverable_id))))
