"""Deliverables: downloading one, stopping it, rendering it again."""

from typing import Any
from urllib.parse import quote

from flask import Blueprint, Response, abort, current_app, jsonify, send_file

from nicelevel.core.errors import NotFoundError
from nicelevel.core.files.names import safe_name
from nicelevel.desk.current import is_of_present_spec
from nicelevel.handover.package import stream_files
from nicelevel.store.deliverables import (
    FILE_LOST,
    KEPT_FILES,
    deliverables_of,
    end_deliverable,
    file_of,
    lose_deliverable,
)
from nicelevel.store.depot import bring
from nicelevel.store.journal import enter
from nicelevel.store.specs import spec_of
from nicelevel.work.enqueue import enqueue_again

from .found import deliverable_or_404, destination_or_404, source_or_404

deliverables = Blueprint("deliverables", __name__)


@deliverables.get("/deliverables/<int:deliverable_id>/file")
def download(deliverable_id: int) -> Any:
    """A written file, whole."""
    deliverable = deliverable_or_404(deliverable_id)
    if deliverable.state not in KEPT_FILES:
        abort(404)
    path = bring(file_of(deliverable, current_app.config["NICE_LEVEL"].deliverables_folder))
    if not path.is_file():
        lose_deliverable(deliverable, FILE_LOST)
        raise NotFoundError(FILE_LOST)
    return send_file(path, as_attachment=True, download_name=path.name)


@deliverables.get("/sources/<int:source_id>/files/<int:destination_id>.zip")
def download_all(source_id: int, destination_id: int) -> Response:
    """All files that were written of a source at a destination, and their checksums."""
    source, destination = source_or_404(source_id), destination_or_404(destination_id)
    made = deliverables_of(source.job_id, KEPT_FILES, [source.id])
    here = [each for each in made if each.destination_id == destination.id and is_of_present_spec(each)]
    if not here:
        abort(404)
    folder = current_app.config["NICE_LEVEL"].deliverables_folder
    name = safe_name(f"{source.title}, {spec_of(destination.spec).spec.name}")
    headers = {"Content-Disposition": f"attachment; filename*=UTF-8''{quote(f'{name}.zip')}"}
    return Response(stream_files(here, folder), mimetype="application/zip", headers=headers)


@deliverables.post("/deliverables/<int:deliverable_id>/stop")
def stop(deliverable_id: int) -> Any:
    """Stop a deliverable that waits or is being rendered."""
    deliverable = deliverable_or_404(deliverable_id)
    stopped = end_deliverable(deliverable, "stopped")
    if stopped:
        enter(f"stopped rendering {deliverable.source.title}", deliverable.source.job_id)
    return jsonify(stopped=int(stopped))


@deliverables.post("/deliverables/<int:deliverable_id>/again")
def again(deliverable_id: int) -> Any:
    """Render one that ended once more."""
    deliverable = deliverable_or_404(deliverable_id)
    queued = enqueue_again(deliverable)
    if queued:
        enter(f"had {deliverable.source.title} rendered once more", deliverable.source.job_id)
    return jsonify(queued=int(queued))
