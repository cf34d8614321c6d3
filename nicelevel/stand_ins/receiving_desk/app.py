"""The desk over HTTP; beside it, each at an address of its own, the desk that takes contributions and the one that
is told alarms.
"""

import shutil
from functools import partial
from pathlib import Path
from typing import Any

from flask import Flask, abort, jsonify, request, url_for

from nicelevel.core.specs import shipped_specs
from nicelevel.core.specs.library import shipped_toml
from nicelevel.stand_ins.alarm_desk import NAME as ALARM_NAME
from nicelevel.stand_ins.alarm_desk import Alarms
from nicelevel.stand_ins.contribution_desk.check import check_contribution
from nicelevel.stand_ins.inbox import Inbox

from .check import check_package

NAME = "Receiving desk (a stand-in)"
CONTRIBUTION_NAME = "Contribution desk (a stand-in)"
LARGEST_PACKAGE_BYTES = 64_000_000_000


def _inbox_of_packages(folder: Path) -> Inbox:
    """With the desk's own copies of specs beside it."""
    specs = folder / "specs"
    folder.mkdir(parents=True, exist_ok=True)
    if not specs.exists():
        _copy_specs(specs)
    check = partial(_check_package, specs)
    return Inbox(folder / "inbox", "package.zip", NAME, check)


def _check_package(specs: Path, archive: Path, room: Path, progress: Any) -> dict[str, Any]:
    return check_package(archive, specs, room, progress)


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
    app = Flask(__name__)
    packages = _inbox_of_packages(folder)
    contributions = Inbox(folder / "contributions", "contribution.wav", CONTRIBUTION_NAME, check_contribution)
    alarms = Alarms(folder / "alarms")
    app.config["TRUSTED_HOSTS"] = ["127.0.0.1", "localhost"]

    @app.get("/")
    def about() -> str:
        return (
            f"{NAME}: send a package as the body of a POST to /packages; own copies of specs are in its folder. "
            f"{CONTRIBUTION_NAME}: send a BW64 as the body of a POST to /contributions. "
            f"{ALARM_NAME}: it is told by a POST to /alarms, and shows what it was told there."
        )

    @app.post("/packages")
    def take() -> Any:
        if request.mimetype != "application/zip":
            return jsonify(message="A package is a zip, sent as application/zip."), 415
        receipt = packages.take(request.stream)
        return jsonify(receipt=url_for("answer", receipt=receipt), desk=NAME), 202

    @app.get("/packages/<receipt>")
    def answer(receipt: str) -> Any:
        found = packages.answer(receipt)
        return jsonify(found) if found else abort(404)

    @app.post("/contributions")
    def take_contribution() -> Any:
        if request.mimetype not in ("audio/wav", "audio/x-wav", "audio/bw64"):
            return jsonify(message="A contribution is a WAVE or BW64 file, sent as audio/wav."), 415
        receipt = contributions.take(request.stream)
        return jsonify(receipt=url_for("answer_contribution", receipt=receipt), desk=CONTRIBUTION_NAME), 202

    @app.get("/contributions/<receipt>")
    def answer_contribution(receipt: str) -> Any:
        found = contributions.answer(receipt)
        return jsonify(found) if found else abort(404)

    @app.post("/alarms")
    def take_alarm() -> Any:
        wrong = alarms.take(request.get_json(silent=True))
        return (jsonify(message=wrong), 422) if wrong else jsonify(desk=ALARM_NAME)

    @app.get("/alarms")
    def shown_alarms() -> Any:
        return jsonify(alarms.kept())

    return app
