"""Taking in files by tus 1.0.0, the open protocol for uploads that go on where they broke off.

https://tus.io/protocols/resumable-upload (core, creation, expiration, termination). A file comes in pieces, each a
request of its own: what arrived stays, whatever becomes of the line, the page or the server.
"""

import base64
import binascii
import hashlib
import json
import os
import re
import time
import uuid
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from dataclasses import asdict, dataclass, replace
from functools import partial
from pathlib import Path
from threading import Lock
from typing import Any, BinaryIO, cast
from urllib.parse import quote

from flask import Blueprint, Response, current_app, jsonify, make_response, request, url_for
from werkzeug.http import http_date

from nicelevel.core.digest import sha256_of
from nicelevel.core.errors import NiceLevelError, NotFoundError
from nicelevel.core.files.staged import speaking_errors
from nicelevel.desk.intake import changed, refuse_too_large, replaced, shown_name
from nicelevel.store.database import persistently
from nicelevel.store.models import Source
from nicelevel.store.sources import same_file
from nicelevel.work.enqueue import enqueue_source
from nicelevel.work.keeping import UPLOAD_KEPT_S

from .found import audio, job_or_404

uploads = Blueprint("uploads", __name__)

PROTOCOL, EXTENSIONS = "1.0.0", "creation,expiration,termination"
PIECE_BYTES = 1 << 20
ANSWER_S = 20.0
_KEY = re.compile(r"[0-9a-f]{32}")


class ConflictError(NiceLevelError):
    """A piece that does not follow on what is there."""

    code = "conflict"


@dataclass(frozen=True)
class Begun:
    """An upload that has been begun: for which job, what the file is called, how long it is, when it was changed.

    digest: of its contents, once all of it is there; replaces: the id of the source that it is given for, if any.
    """

    key: str
    job: int
    name: str
    size_bytes: int
    changed_ms: int | None
    digest: str = ""
    replaces: str = ""


class _Digests:
    """The digest of each upload so far, as long as its pieces come to this process; else it is read again."""

    def __init__(self) -> None:
        self._known: dict[str, tuple[int, Any]] = {}
        self._lock = Lock()

    def take(self, key: str, offset: int) -> Any:
        with self._lock:
            at, digest = self._known.pop(key, (-1, None))
        return digest if at == offset else hashlib.sha256() if offset == 0 else None

    def keep(self, key: str, offset: int, digest: Any) -> None:
        with self._lock:
            self._known[key] = (offset, digest)


_digests = _Digests()
_busy: set[str] = set()
_busy_lock = Lock()


@uploads.after_request
def say_protocol(answer: Response) -> Response:
    answer.headers["Tus-Resumable"] = PROTOCOL
    answer.headers["Cache-Control"] = "no-store"
    return answer


@uploads.route("/jobs/<int:job_id>/uploads", methods=["OPTIONS"], provide_automatic_options=False)
def about(job_id: int) -> Response:
    answer = make_response("", 204)
    answer.headers["Tus-Version"], answer.headers["Tus-Extension"] = PROTOCOL, EXTENSIONS
    answer.headers["Tus-Max-Size"] = str(current_app.config["NICE_LEVEL"].largest_upload_bytes)
    return answer


@uploads.post("/jobs/<int:job_id>/uploads")
def begin(job_id: int) -> Response:
    """Begin an upload; where its pieces go is in the answer. Refused at once where it will not fit."""
    job_or_404(job_id)
    size_bytes, told = request.headers.get("Upload-Length", "", type=str), _metadata()
    if not size_bytes.isdigit() or len(size_bytes) > 15:
        raise NotFoundError("The upload does not say how long it is.")
    refuse_too_large(int(size_bytes), current_app.config["NICE_LEVEL"])
    changed_ms = int(told["changed"]) if told.get("changed", "").isdigit() else None
    name, replaces = shown_name(told.get("filename", "")), told.get("replaces", "")
    begun = Begun(uuid.uuid4().hex, job_id, name, int(size_bytes), changed_ms, replaces=replaces)
    with speaking_errors(_folder()):
        _data_path(begun.key).touch()
        _keep(begun)
    answer = make_response("", 201)
    answer.headers["Location"] = url_for("uploads.send", key=begun.key)
    answer.headers["Upload-Expires"] = http_date(time.time() + UPLOAD_KEPT_S)
    if not begun.size_bytes:
        _tell(answer, begun)
    return answer


def _tell(answer: Response, begun: Begun) -> None:
    """Finish an upload and say which source it became, and where that was here before, that it was."""
    source, was_here = _finish(begun)
    answer.headers["Nice-Level-Source"] = str(source.id)
    if was_here:
        said = f"{begun.name} is here already, the same to the last bit: it was not taken in twice."
        answer.headers["Nice-Level-Said"] = quote(said)


def _metadata() -> dict[str, str]:
    """Upload-Metadata: keys and values in Base64, with commas between."""
    told = {}
    for pair in request.headers.get("Upload-Metadata", "").split(","):
        key, _, value = pair.strip().partition(" ")
        with suppress(binascii.Error, UnicodeDecodeError):
            told[key] = base64.b64decode(value, validate=True).decode()
    return told


@uploads.get("/jobs/<int:job_id>/uploads")
def list_begun(job_id: int) -> Any:
    """Uploads of a job that have not come to their end, and how far each is."""
    job_or_404(job_id)
    found = [each for each in map(_read, _folder().glob("*.json")) if each and each.job == job_id]
    here = [each for each in found if _data_path(each.key).exists()]
    rows = [
        {
            "address": url_for("uploads.send", key=each.key),
            "name": each.name,
            "size_bytes": each.size_bytes,
            "changed_ms": each.changed_ms,
            "done_bytes": _data_path(each.key).stat().st_size,
        }
        for each in here
    ]
    return jsonify(uploads=rows)


@uploads.route("/uploads/<key>", methods=["HEAD"])
def ask(key: str) -> Response:
    begun = _begun_or_404(key)
    answer = make_response("", 200)
    answer.headers["Upload-Offset"] = str(_come_so_far(begun))
    answer.headers["Upload-Length"] = str(begun.size_bytes)
    return answer


def _come_so_far(begun: Begun) -> int:
    """Bytes of an upload that are there; what was all there, but not taken into its job, is now."""
    path = _data_path(begun.key)
    if begun.digest or path.stat().st_size == begun.size_bytes:
        with _alone(begun.key):
            _finish(_begun_or_404(begun.key))  # it may have been finished while we waited
        return begun.size_bytes
    return path.stat().st_size


@uploads.patch("/uploads/<key>")
def send(key: str) -> Response:
    """The next piece of an upload; with the last one the source is in its job, and named in the answer."""
    with _alone(key):
        begun = _begun_or_404(key)
        path, asked = _data_path(key), request.headers.get("Upload-Offset", "")
        offset = path.stat().st_size
        if asked != str(offset):
            raise ConflictError(f"The upload goes on at byte {offset}, not at {asked or 'an unknown one'}.")
        with speaking_errors(Path(begun.name)):
            offset = _append(begun, path, offset, cast(BinaryIO, request.stream))
        answer = make_response("", 204)
        answer.headers["Upload-Offset"] = str(offset)
        if offset == begun.size_bytes and path.exists():
            _tell(answer, begun)
        return answer


def _append(begun: Begun, path: Path, offset: int, stream: BinaryIO) -> int:
    """Write what comes after what is there, no more than was announced; how long it is then."""
    digest = _digests.take(begun.key, offset)
    with path.open("r+b") as file:
        file.seek(offset)
        while offset < begun.size_bytes and (data := stream.read(min(PIECE_BYTES, begun.size_bytes - offset))):
            file.write(data)
            offset += len(data)
            if digest:
                digest.update(data)
        file.flush()
        os.fsync(file.fileno())
    if digest:
        _digests.keep(begun.key, offset, digest)
    return offset


def _finish(begun: Begun) -> tuple[Source, bool]:
    """Move what has come to its place and have it measured; the source, and whether it was here before.

    Its digest is kept first: where we are killed in between, whoever asks how far it is brings it to its end.
    """
    path = _data_path(begun.key)
    known = _digests.take(begun.key, begun.size_bytes)
    with speaking_errors(Path(begun.name)):
        digest = begun.digest or (known.hexdigest() if known else sha256_of(path))
        _keep(replace(begun, digest=digest))
        if path.exists():
            audio().adopt(path, digest)
    changed_at = changed(begun.changed_ms)
    # Where it was being finished before, the source may be its own.
    is_first = not begun.digest
    was_here = is_first and persistently(partial(same_file, begun.job, begun.name, digest), ANSWER_S) is not None
    more: dict[str, Any] = {"changed_at": changed_at, "replaces": replaced(begun.job, begun.replaces)}
    taken = partial(enqueue_source, begun.job, begun.name, digest, begun.size_bytes, **more)
    source = persistently(taken, ANSWER_S)
    _about_path(begun.key).unlink(missing_ok=True)
    return source, was_here


def _keep(begun: Begun) -> None:
    part = _about_path(begun.key).with_suffix(".new")
    part.write_text(json.dumps(asdict(begun)))
    part.replace(_about_path(begun.key))


@uploads.delete("/uploads/<key>")
def stop(key: str) -> Response:
    """Throw away what has come of an upload, also while a piece of it is being written."""
    _begun_or_404(key)
    _about_path(key).unlink(missing_ok=True)
    _data_path(key).unlink(missing_ok=True)
    return make_response("", 204)


@contextmanager
def _alone(key: str) -> Iterator[None]:
    """One piece of an upload at a time. Raises ConflictError where another is being written."""
    with _busy_lock:
        if key in _busy:
            raise ConflictError("Another piece of this upload is being written.")
        _busy.add(key)
    try:
        yield
    finally:
        with _busy_lock:
            _busy.discard(key)


def _begun_or_404(key: str) -> Begun:
    begun = _read(_about_path(key)) if _KEY.fullmatch(key) else None
    if begun is None or not (_data_path(key).exists() or (begun.digest and audio().is_kept(begun.digest))):
        raise NotFoundError("There is no such upload any more.")
    job_or_404(begun.job)
    return begun


def _read(path: Path) -> Begun | None:
    try:
        return Begun(**json.loads(path.read_text()))
    except (OSError, ValueError, TypeError):
        return None


def _folder() -> Path:
    folder: Path = current_app.config["NICE_LEVEL"].uploads_folder
    return folder


def _data_path(key: str) -> Path:
    return _folder() / f"{key}.upload"


def _about_path(key: str) -> Path:
    return _folder() / f"{key}.json"
