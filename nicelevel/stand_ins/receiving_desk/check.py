"""What the desk does with a package: unpack it, hold it against its manifest, measure and judge every file."""

import json
import zipfile
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path, PurePosixPath
from typing import Any

from nicelevel.core.digest import sha256_of
from nicelevel.core.errors import NiceLevelError, SpecError
from nicelevel.core.measure import measure
from nicelevel.core.plan.sets import as_member
from nicelevel.core.specs import Spec, judge, parse_spec
from nicelevel.core.words import asked_and_found

MANIFEST_NAME, CHECKSUMS_NAME = "manifest.json", "SHA256SUMS.txt"
_PAPERS = ("proof", "specs/", "NOT COMPLETE", MANIFEST_NAME, CHECKSUMS_NAME)
"""What is not audio begins so, at the top of the package."""

LARGEST_FILE_BYTES, LARGEST_PAPER_BYTES, SMALL_BYTES, MOST_TIMES = 32_000_000_000, 50_000_000, 1_000_000, 50
"""What is taken: files and papers up to so long; what is not small may unpack to so many times its size."""

Progress = Callable[[float], None]


@dataclass(frozen=True)
class Judged:
    """One file of a package."""

    path: str
    reasons: tuple[str, ...]

    @property
    def accepted(self) -> bool:
        return not self.reasons


def check_package(archive: Path, specs: Path, room: Path, progress: Progress) -> dict[str, Any]:
    """The answer to a package: accepted where it is whole and every file meets the desk's own copy of its spec.

    specs: the desk's copies, one TOML each, named by slug; room: an empty folder to unpack one file at a time into.
    """
    try:
        with zipfile.ZipFile(archive) as package:
            if too_much := _unpacks_to_too_much(package):
                return {"state": "rejected", "reasons": [too_much], "files": []}
            listed, reasons = _manifest(package)
            files = list(_judged(package, listed, specs, room, progress))
    except zipfile.BadZipFile:
        return {"state": "rejected", "reasons": ["The package is no zip, or broke off on its way."], "files": []}
    accepted = not reasons and all(file.accepted for file in files)
    return {
        "state": "accepted" if accepted else "rejected",
        "reasons": reasons,
        "files": [{"path": each.path, "accepted": each.accepted, "reasons": list(each.reasons)} for each in files],
    }


def _unpacks_to_too_much(package: zipfile.ZipFile) -> str:
    """A sentence where entries would become far more than they are: audio does not shrink like that."""
    for entry in package.infolist():
        if entry.file_size > LARGEST_FILE_BYTES:
            return f"{entry.filename} is larger than a file can be here."
        if entry.file_size > SMALL_BYTES and entry.file_size > MOST_TIMES * entry.compress_size:
            return f"{entry.filename} would unpack to {entry.file_size} bytes from {entry.compress_size}."
        if entry.filename in (MANIFEST_NAME, CHECKSUMS_NAME) and entry.file_size > LARGEST_PAPER_BYTES:
            return f"{entry.filename} is longer than it can be."
    return ""


def _manifest(package: zipfile.ZipFile) -> tuple[list[dict[str, Any]], list[str]]:
    """The files that the manifest names, and what is wrong with the package as a whole."""
    names = set(package.namelist())
    if MANIFEST_NAME not in names:
        return [], ["There is no manifest.json in the package."]
    try:
        told = json.loads(package.read(MANIFEST_NAME))
        listed = [{key: each[key] for key in ("path", "sha256", "spec", "level_of")} for each in told["files"]]
        known = {str(each["path"]) for each in listed}
    except (ValueError, KeyError, TypeError):
        return [], ["The manifest cannot be read."]
    reasons = [] if listed else ["The manifest names no file."]
    extra = sorted(name for name in names - known if not name.startswith(_PAPERS))
    reasons += [f"{name} is in the package but not in its manifest." for name in extra]
    return listed, reasons


def _judged(
    package: zipfile.ZipFile, listed: list[dict[str, Any]], specs: Path, room: Path, progress: Progress
) -> Iterator[Judged]:
    for number, row in enumerate(listed):
        progress(number / len(listed))
        yield Judged(str(row["path"]), tuple(_reasons(package, row, specs, room)))


def _reasons(package: zipfile.ZipFile, row: dict[str, Any], specs: Path, room: Path) -> list[str]:
    """Why a file is not taken; none where it is."""
    name = str(row["path"])
    if name not in package.namelist():
        return ["named in the manifest, but not in the package"]
    unpacked = room / f"file{PurePosixPath(name).suffix}"
    try:
        with package.open(name) as inside, unpacked.open("wb") as file:
            while piece := inside.read(1 << 20):
                file.write(piece)
        if sha256_of(unpacked) != row["sha256"]:
            return ["its SHA-256 is not the one in the manifest"]
        spec = own_spec(specs, str(row["spec"]["slug"]))
        # A stem takes its level from its mix: it has no target of its own.
        verdict = judge(measure(unpacked), as_member(spec) if row["level_of"] else spec)
    except (SpecError, NiceLevelError) as error:
        return [error.message]
    finally:
        unpacked.unlink(missing_ok=True)
    return [asked_and_found(each.text, each.found) for each in verdict.findings if not each.meets]


def own_spec(specs: Path, slug: str) -> Spec:
    """The desk's own copy of a spec. Raises SpecError where it has none."""
    path = specs / f"{PurePosixPath(slug).name}.toml"
    if not path.exists():
        raise SpecError(f"the desk has no copy of the spec “{slug}”")
    return parse_spec(path.read_text(), path.stem)
