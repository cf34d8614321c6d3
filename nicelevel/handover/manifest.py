"""The manifest of a package: what is in it, from which source, made for which spec."""

import json
from collections.abc import Sequence
from datetime import datetime
from typing import Any

from nicelevel.core.package import Packed
from nicelevel.core.specs import Spec
from nicelevel.desk.current import Absent
from nicelevel.store.models import Deliverable
from nicelevel.store.specs import kept_version, spec_of

MANIFEST_NAME = "manifest.json"
MANIFEST_VERSION = 1


ABSENT_NAME = "NOT COMPLETE.txt"


def manifest(
    job: str,
    made_at: datetime,
    deliverables: Sequence[Deliverable],
    files: Sequence[Packed],
    absent: Sequence[Absent] = (),
) -> str:
    """JSON text; `files` are the deliverables under the names that they have in the package.

    level_of: the title of the mix that a member of a set takes its level from, or of the programme that a file holds
    a channel of; no target holds for such a file. missing: what belongs to the package and is not in it.
    """
    rows = [_row(each, packed) for each, packed in zip(deliverables, files, strict=True)]
    kept = {
        "manifest": MANIFEST_VERSION,
        "job": job,
        "made_at": made_at.isoformat(timespec="seconds"),
        "complete": not absent,
        "missing": absent_json(absent),
        "files": rows,
    }
    return json.dumps(kept, ensure_ascii=False, indent=1)


def absent_json(absent: Sequence[Absent]) -> list[dict[str, str]]:
    """What is missing and why, for programs."""
    return [{"title": each.title, "destination": each.destination, "reason": each.reason} for each in absent]


def absent_text(job: str, absent: Sequence[Absent]) -> str:
    """The same for people, as a paper of its own."""
    lines = [f"{each.title} for {each.destination}: {each.reason}" for each in absent]
    return "\n".join([f"{job}: this package is not complete. What is missing:", "", *lines, ""])


def spec_path(spec: Spec) -> str:
    """Where a package has a spec as TOML."""
    return f"specs/{spec.slug}.toml"


def specs_of(deliverables: Sequence[Deliverable]) -> dict[str, str]:
    """The specs that some deliverables were made for, as TOML, by their names in a package."""
    versions = {each.spec_id: each.spec for each in deliverables}
    return {spec_path(spec_of(version)): version.toml for version in versions.values()}


def _level_of(made: Deliverable) -> str | None:
    if made.source.leader_id:
        return str(made.source.leader.title)
    return str(made.source.title) if (made.plan or {}).get("format", {}).get("channel") else None


def _row(made: Deliverable, packed: Packed) -> dict[str, Any]:
    kept, measured = kept_version(made.spec_id), made.measured or {}
    source = made.source
    return {
        "path": packed.name,
        "size_bytes": made.size_bytes,
        "sha256": packed.sha256,
        "spec": {
            "slug": kept.spec.slug,
            "name": kept.spec.spec.name,
            "version": kept.version,
            "path": spec_path(kept.spec),
        },
        "source": {"title": source.title, "file_name": source.file_name, "sha256": source.digest},
        "level_of": _level_of(made),
        "integrated_lufs": measured.get("integrated_lufs"),
        "true_peak_dbtp": measured.get("true_peak_dbtp"),
        "duration_s": measured.get("duration_s"),
    }
