"""Deliverables: downloading one."""

from typing import Any

from flask import Blueprint, abort, current_app, send_file

from nicelevel.store.deliverables import KEPT_FILES, file_of

from .found import deliverable_or_404

deliverables = Blueprint("deliverables", __name__)


@deliverables.get("/deliverables/<int:deliverable_id>/file")
def download(deliverable_id: int) -> Any:
    deliverable = deliverable_or_404(deliverable_id)
    if deliverable.state not in KEPT_FILES:
        abort(404)
    path = file_of(deliverable, current_app.config["NICE_LEVEL"].deliverables_folder)
    return send_file(path, as_attachment=True, download_name=path.name)
