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
    present, stamps = version_of(FOLDER), {name: _stamp_of(FOLDER / name) for name in _names(FOLDER)}

    @app.url_defaults
    def name_version(endpoint: str, values: dict[str, Any]) -> None:
        if endpoint == "static":
            values.setdefault("version", present)

    @app.get("/static/<version>/<path:filename>", endpoint="static")
    def static(version: str, filename: str) -> Response:
        """A page from before an update asks by the old version: it gets what there is now, and does not keep it.

        Nor does one keep what was put in place while the server of before still runs.
        """
        is_named = version == present and filename in stamps
        is_as_named = is_named and stamps[filename] == _stamp_of(FOLDER / filename)
        answer = send_from_directory(FOLDER, filename, max_age=KEPT_S if is_as_named else 0)
        answer.cache_control.immutable = is_as_named
        return answer


def version_of(folder: Path) -> str:
    """A name for all files of a folder as they are."""
    digest = hashlib.sha256()
    for name in _names(folder):
        data = (folder / name).read_bytes()
        digest.update(f"{name} {len(data)}\n".encode() + data)
    return digest.hexdigest()[:16]


def _names(folder: Path) -> list[str]:
    return sorted(each.relative_to(folder).as_posix() for each in folder.rglob("*") if each.is_file())


def _stamp_of(path: Path) -> tuple[int, int] | None:
    """What tells a file from the one that takes its place."""
    try:
        told = path.stat()
    except (OSError, ValueError):
        return None
    return told.st_mtime_ns, told.st_size
