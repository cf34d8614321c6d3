"""The desk over HTTP. What it took and answered stays in its folder, so that it can be stopped at any time."""

import json
import logging
import shutil
import threading
import uuid
from pathlib import Path
from typing import Any

from flask import Flask, abort, jsonify, request, url_for

from nicelevel.core.specs import shipped_specs
from nicelevel.core.specs.library import shipped_toml

from .check import check_package

NAME = "Receiving desk (a stand-in)"
PIECE_BYTES = 1 << 20
LARGEST_PACKAGE_BYTES = 64_000_000_000
logger = logging.getLogger("nicelevel.desk")


class Desk:
    """A folder with the desk's own specs and, for every package, what came and what was answered."""

    def __init__(self, folder: Path) -> None:
        self.specs, self._inbox = folder / "specs", folder / "inbox"
        self._progress: dict[str, float] = {}
        self._inbox.mkdir(parents=True, exist_ok=True)
        if not self.specs.exists():
            _copy_specs(self.specs)
        for waiting in self._inbox.glob("*/package.zip"):
            self._begin(waiting.parent.name)

    def take(self, stream: Any) -> str:
        """Keep a package and begin to check it; its receipt."""
        receipt = uuid.uuid4().hex
        place = self._inbox / receipt
        place.mkdir()
        part = place / "package.part"
        try:
            with part.open("xb") as file:
                while piece := stream.read(PIECE_BYTES):
                    file.write(piece)
            part.rename(place / "package.zip")
        except BaseException:
            shutil.rmtree(place, ignore_errors=True)
            raise
        self._begin(receipt)
        return receipt

    def answer(self, receipt: str) -> dict[str, Any] | None:
        """What became of a package; None where there is no such receipt."""
        place = self._inbox / receipt
        if not receipt.isalnum() or not place.is_dir():
            return None
        kept = place / "answer.json"
        if kept.exists():
            found: dict[str, Any] = json.loads(kept.read_text())
            return found
        return {"state": "checking", "progress": self._progress.get(receipt, 0.0)}

    def _begin(self, receipt: str) -> None:
        threading.Thread(target=self._check, args=(receipt,), daemon=True).start()

    def _check(self, receipt: str) -> None:
        place = self._inbox / receipt
        room = place / "room"
        shutil.rmtree(room, ignore_errors=True)
        room.mkdir()
        try:
            answer = check_package(
                place / "package.zip", self.specs, room, lambda ratio: self._progress.update({receipt: ratio})
            )
        except Exception:
            logger.exception("a package could not be checked")
            answer = {"state": "rejected", "reasons": ["The desk itself failed; its log says how."], "files": []}
        part = place / "answer.part"
        part.write_text(json.dumps(answer | {"desk": NAME}, ensure_ascii=False, indent=1))
        part.rename(place / "answer.json")
        # The audio was looked at; a stand-in keeps none of it.
        (place / "package.zip").unlink()
        shutil.rmtree(room, ignore_errors=True)
        self._progress.pop(receipt, None)


def _copy_specs(folder: Path) -> None:
    """What ships, once and whole: a copy that is taken away afterwards stays away."""
    part = folder.with_name(f"{folder.name}.part")
    shutil.rmtree(part, ignore_errors=True)
    part.mkdir(parents=True)
    for slug in shipped_specs():
        (part / f"{slug}.toml").write_text(shipped_toml(slug))
    part.rename(folder)


def create_desk(folder: Path) -> Flask:
    """The WSGI application over one folder."""
    app, desk = Flask(__name__), Desk(folder)
    app.config["TRUSTED_HOSTS"] = ["127.0.0.1", "localhost"]

    @app.get("/")
    def about() -> str:
        return f"{NAME}: send a package as the body of a POST to /packages; own copies of specs are in its folder."

    @app.post("/packages")
    def take() -> Any:
        if request.mimetype != "application/zip":
            return jsonify(message="A package is a zip, sent as application/zip."), 415
        receipt = desk.take(request.stream)
        return jsonify(receipt=url_for("answer", receipt=receipt), desk=NAME), 202

    @app.get("/packages/<receipt>")
    def answer(receipt: str) -> Any:
        found = desk.answer(receipt)
        return jsonify(found) if found else abort(404)

    return app
