"""Proof sheets: as a page of its own, as PDF, as JSON and CSV; of one file or of a whole package."""

import base64
import json
from collections.abc import Sequence
from functools import cache
from pathlib import Path
from typing import Any

from flask import Blueprint, Response, abort, current_app, jsonify

from nicelevel.report.proof_sheet import Made, ProofSheet, proof_sheet, sheets_csv
from nicelevel.store.deliverables import KEPT_FILES
from nicelevel.store.models import Deliverable
from nicelevel.store.readings import load_figures
from nicelevel.store.specs import kept_version

from .current import current_deliverables
from .found import audio, deliverable_or_404, job_or_404

proofs = Blueprint("proofs", __name__)

_FONTS = Path(__file__).parent / "static" / "vendor" / "fonts"


def sheet_of(deliverable: Deliverable) -> ProofSheet:
    """The sheet of a written file."""
    kept = kept_version(deliverable.spec_id)
    return proof_sheet(
        Made(
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
            source=load_figures(deliverable.source.digest, audio()),
            spec=kept.spec,
            version=kept.version,
        )
    )


def sheets_html(title: str, sheets: Sequence[ProofSheet]) -> str:
    """A page that needs nothing else, also no database: its fonts are inside."""
    template = current_app.jinja_env.get_template("proof/sheet.html")
    return template.render(title=title, sheets=sheets, fonts=_fonts())


def sheets_pdf(title: str, sheets: Sequence[ProofSheet]) -> bytes:
    """The same page as PDF, one A4 sheet for each file."""
    # Loaded here: it takes half a second, and most processes never make a PDF.
    from weasyprint import HTML

    pdf: bytes = HTML(string=sheets_html(title, sheets)).write_pdf()
    return pdf


@cache
def _fonts() -> dict[str, str]:
    names = {"text": "next", "figures": "mono"}
    files = {key: _FONTS / f"atkinson-hyperlegible-{name}-latin-wght-normal.woff2" for key, name in names.items()}
    return {
        key: f"data:font/woff2;base64,{base64.b64encode(file.read_bytes()).decode()}" for key, file in files.items()
    }


_OWN_POLICY = "default-src 'none'; style-src 'unsafe-inline'; font-src data:"
"""The sheet has its style and its fonts inside, and nothing that runs."""


def _page(html: str) -> Response:
    return Response(html, headers={"Content-Security-Policy": _OWN_POLICY})


@proofs.get("/deliverables/<int:deliverable_id>/proof")
def page(deliverable_id: int) -> Response:
    sheet = _sheet_or_404(deliverable_id)
    return _page(sheets_html(sheet.made.title, [sheet]))


@proofs.get("/deliverables/<int:deliverable_id>/proof.pdf")
def pdf(deliverable_id: int) -> Response:
    sheet = _sheet_or_404(deliverable_id)
    return Response(sheets_pdf(sheet.made.title, [sheet]), mimetype="application/pdf")


@proofs.get("/jobs/<int:job_id>/proof")
def job_page(job_id: int) -> Response:
    return _page(sheets_html(job_or_404(job_id).title, _sheets(job_id)))


@proofs.get("/jobs/<int:job_id>/proof.pdf")
def job_pdf(job_id: int) -> Response:
    return Response(sheets_pdf(job_or_404(job_id).title, _sheets(job_id)), mimetype="application/pdf")


@proofs.get("/jobs/<int:job_id>/proof.csv")
def job_csv(job_id: int) -> Response:
    job_or_404(job_id)
    return Response(sheets_csv(_sheets(job_id)), mimetype="text/csv")


@proofs.get("/jobs/<int:job_id>/proof.json")
def job_json(job_id: int) -> Any:
    job_or_404(job_id)
    return jsonify(deliverables=proofs_json(_proved(job_id)))


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
            "measured": {key: value for key, value in (each.measured or {}).items() if key != "course"},
            "findings": each.findings,
        }
        for each in proved
    ]


def proofs_text(proved: Sequence[Deliverable]) -> str:
    return json.dumps({"deliverables": proofs_json(proved)}, ensure_ascii=False, indent=1)


def _proved(job_id: int) -> list[Deliverable]:
    return current_deliverables(job_id, audio())


def _sheets(job_id: int) -> list[ProofSheet]:
    proved = _proved(job_id)
    if not proved:
        abort(404)
    return [sheet_of(each) for each in proved]


def _sheet_or_404(deliverable_id: int) -> ProofSheet:
    deliverable = deliverable_or_404(deliverable_id)
    if deliverable.state not in KEPT_FILES or deliverable.measured is None:
        abort(404)
    return sheet_of(deliverable)
