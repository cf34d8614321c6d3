"""Scripts, styles and fonts, at an address that names their contents: a browser keeps them until they are others.

A page has sixty of them, and to ask whether each is still the same took longer than the page itself.
"""

import hashlib
from pathlib import Path
from typing import Any

from flask import Flask, Response, send_from_directory

FOLDER = Path(__file__).parent / "static"

KEPT_S = 365 * 24 * 3600


def register(app: Flask) -> None:
    """Serve them as the endpoint `static`; scripts import each other by their names, within one version."""
    present = version_of(FOLDER)

    @app.url_defaults
    def name_version(endpoint: str, values: dict[str, Any]) -> None:
        if endpoint == "static":
            values.setdefault("version", present)

    @app.get("/static/<version>/<path:filename>", endpoint="static")
    def static(version: str, filename: str) -> Response:
        """A page from before an update asks by the old version: it gets what there is now, and does not keep it."""
        answer = send_from_directory(FOLDER, filename, max_age=KEPT_S if version == present else 0)
        answer.cache_control.immutable = version == present
        return answer


def version_of(folder: Path) -> str:
    """A name for all files of a folder as they are."""
    digest = hashlib.sha256()
    for path in sorted(each for each in folder.rglob("*") if each.is_file()):
        digest.update(f"{path.relative_to(folder)} {path.stat().st_size}\n".encode() + path.read_bytes())
    return digest.hexdigest()[:16]
