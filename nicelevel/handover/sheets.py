"""Proof sheets of written files, as a page of its own, as PDF, and as JSON."""

import base64
import json
from collections.abc import Sequence
from functools import cache
from pathlib import Path
from typing import Any

from jinja2 import Environment, PackageLoader

from nicelevel.desk.current import Absent
from nicelevel.report.proof_sheet import ProofSheet, Written, proof_sheet
from nicelevel.report.words import unbroken
from nicelevel.store.audio import AudioFolder
from nicelevel.store.models import Deliverable
from nicelevel.store.readings import load_figures
from nicelevel.store.specs import kept_version

from .manifest import absent_json, spec_path

_FONTS = Path(__file__).parents[1] / "web" / "static" / "vendor" / "fonts"
"""The fonts of the application's pages, which ship once."""


def sheet_of(deliverable: Deliverable, audio: AudioFolder) -> ProofSheet:
    """The sheet of a written file."""
    kept = kept_version(deliverable.spec_id)
    return proof_sheet(
        Written(
            title=deliverable.source.title,
            source_name=deliverable.source.file_name,
            file_name=str(deliverable.file_name),
            job=deliverable.source.job.title,
            sha256=str(deliverable.sha256),
            size_bytes=deliverable.size_bytes or 0,
            proved_at=deliverable.finished_at,
            plan=deliverable.plan or {},
            measured=deliverable.measured or {},
            findings=deliverable.findings or [],
            source=load_figures(deliverable.source.digest, audio),
            spec=kept.spec,
            version=kept.version,
            spec_path=spec_path(kept.spec),
        )
    )


def sheets_html(title: str, sheets: Sequence[ProofSheet], absent: Sequence[Absent] = ()) -> str:
    """A page that needs nothing else, also no database: its fonts are inside. absent: said on a leaf before all."""
    return str(_template().render(title=title, sheets=sheets, absent=absent, fonts=_fonts()))


def sheets_pdf(title: str, sheets: Sequence[ProofSheet], absent: Sequence[Absent] = ()) -> bytes:
    """The same page as PDF, one A4 sheet for each file."""
    # Loaded here: it takes half a second, and most processes never make a PDF.
    from weasyprint import HTML

    pdf: bytes = HTML(string=sheets_html(title, sheets, absent)).write_pdf()
    return pdf


@cache
def _template() -> Any:
    loader = PackageLoader("nicelevel.handover")
    environment = Environment(loader=loader, autoescape=True, trim_blocks=True, lstrip_blocks=True)
    environment.filters["unbroken"] = unbroken
    return environment.get_template("sheet.html")


@cache
def _fonts() -> dict[str, str]:
    names = {"text": "next", "figures": "mono"}
    files = {key: _FONTS / f"atkinson-hyperlegible-{name}-latin-wght-normal.woff2" for key, name in names.items()}
    return {
        key: f"data:font/woff2;base64,{base64.b64encode(file.read_bytes()).decode()}" for key, file in files.items()
    }


def proofs_json(proved: Sequence[Deliverable]) -> list[dict[str, Any]]:
    """What was proved of each file, for programs."""
    return [
        {
            "file": each.file_name,
            "sha256": each.sha256,
            "size_bytes": each.size_bytes,
            "spec": kept_version(each.spec_id).spec.slug,
            "spec_version": kept_version(each.spec_id).version,
            "plan": each.plan,
            "plan_digest": each.plan_digest,
            "measured": {key: value for key, value in (each.measured or {}).items() if key != "course"},
            "findings": each.findings,
        }
        for each in proved
    ]


def proofs_text(proved: Sequence[Deliverable], absent: Sequence[Absent] = ()) -> str:
    kept = {"deliverables": proofs_json(proved), "missing": absent_json(absent)}
    return json.dumps(kept, ensure_ascii=False, indent=1)
