"""Proof sheets: as a page of its own, as PDF, as JSON and CSV; of one file or of a whole package."""

from collections.abc import Sequence
from typing import Any

from flask import Blueprint, Response, abort, jsonify

from nicelevel.desk.current import absent_files, current_deliverables
from nicelevel.handover.sheets import proofs_json, sheet_of, sheets_html, sheets_pdf
from nicelevel.report.proof_sheet import ProofSheet, rules_csv, sheets_csv
from nicelevel.store.deliverables import KEPT_FILES
from nicelevel.store.models import Deliverable

from .found import audio, deliverable_or_404, job_or_404

proofs = Blueprint("proofs", __name__)

_OWN_POLICY = "default-src 'none'; style-src 'unsafe-inline'; font-src data:"
"""The sheet has its style and its fonts inside, and nothing that runs."""


def proof_page(html: str) -> Response:
    return Response(html, headers={"Content-Security-Policy": _OWN_POLICY})


@proofs.get("/deliverables/<int:deliverable_id>/proof")
def page(deliverable_id: int) -> Response:
    """The proof sheet of a file, as a page that needs nothing else."""
    sheet = _sheet_or_404(deliverable_id)
    return proof_page(sheets_html(sheet.made.title, [sheet]))


@proofs.get("/deliverables/<int:deliverable_id>/proof.pdf")
def pdf(deliverable_id: int) -> Response:
    """The same as PDF."""
    sheet = _sheet_or_404(deliverable_id)
    return Response(sheets_pdf(sheet.made.title, [sheet]), mimetype="application/pdf")


@proofs.get("/jobs/<int:job_id>/proof")
def job_page(job_id: int) -> Response:
    """The proof sheets of a job, one after the other."""
    return proof_page(sheets_html(job_or_404(job_id).title, _sheets(job_id), absent_files(job_id, audio())))


@proofs.get("/jobs/<int:job_id>/proof.pdf")
def job_pdf(job_id: int) -> Response:
    """The same as PDF."""
    pdf = sheets_pdf(job_or_404(job_id).title, _sheets(job_id), absent_files(job_id, audio()))
    return Response(pdf, mimetype="application/pdf")


@proofs.get("/jobs/<int:job_id>/proof.csv")
def job_csv(job_id: int) -> Response:
    """One row for each file of the package, with its figures."""
    job_or_404(job_id)
    return Response(sheets_csv(_sheets(job_id)), mimetype="text/csv")


@proofs.get("/jobs/<int:job_id>/proof-rules.csv")
def job_rules_csv(job_id: int) -> Response:
    """One row for each rule of each file."""
    job_or_404(job_id)
    return Response(rules_csv(_sheets(job_id)), mimetype="text/csv")


@proofs.get("/jobs/<int:job_id>/proof.json")
def job_json(job_id: int) -> Any:
    """What was proved of each file of the package."""
    job_or_404(job_id)
    return jsonify(deliverables=proofs_json(_proved(job_id)))


def _proved(job_id: int) -> Sequence[Deliverable]:
    return current_deliverables(job_id, audio())


def _sheets(job_id: int) -> list[ProofSheet]:
    proved = _proved(job_id)
    if not proved:
        abort(404)
    return [sheet_of(each, audio()) for each in proved]


def _sheet_or_404(deliverable_id: int) -> ProofSheet:
    deliverable = deliverable_or_404(deliverable_id)
    if deliverable.state not in KEPT_FILES or deliverable.measured is None:
        abort(404)
    return sheet_of(deliverable, audio())
