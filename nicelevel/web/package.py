"""A package as a stream: stored, not deflated (audio does not shrink), with its checksums."""

from collections.abc import Callable, Iterator, Sequence
from pathlib import Path
from urllib.parse import quote

from zipstream import ZIP_STORED, ZipStream

from nicelevel.core.files.names import safe_name
from nicelevel.core.package import CHECKSUMS_NAME, Packed, checksum_list, with_own_names
from nicelevel.report.proof_sheet import ProofSheet, sheets_csv
from nicelevel.store.deliverables import file_of
from nicelevel.store.models import Deliverable

from .proofs import proofs_text, sheet_of, sheets_html, sheets_pdf

SHEETS_A_PDF = 50
"""A sheet takes about a fifth of a second: more of them come in several files, so that the download goes on."""


def package_name(title: str) -> str:
    """Name of the zip, for a header."""
    return quote(f"{safe_name(title)}.zip")


def stream_package(title: str, deliverables: Sequence[Deliverable], folder: Path) -> Iterator[bytes]:
    """The zip of these deliverables, piece by piece; files over 4 GiB and many of them are no matter (zip64).

    Their proof goes with them, for people (PDF, a page) and for programs (JSON, CSV), drawn when its turn comes. The
    database is asked before, for the stream outlives its request.
    """
    files = with_own_names(
        Packed(file_of(each, folder), str(each.file_name), str(each.sha256)) for each in deliverables
    )
    stream = ZipStream(compress_type=ZIP_STORED)
    for packed in files:
        stream.add_path(packed.path, packed.name)
    stream.add(checksum_list(files).encode(), CHECKSUMS_NAME)
    if deliverables:
        _add_proof(stream, title, deliverables)
    return iter(stream)


def _add_proof(stream: ZipStream, title: str, deliverables: Sequence[Deliverable]) -> None:
    sheets = [sheet_of(each) for each in deliverables]
    stream.add(sheets_csv(sheets).encode(), "proof.csv")
    stream.add(proofs_text(deliverables).encode(), "proof.json")
    stream.add(_drawn(sheets_html, title, sheets), "proof.html")
    for number, at in enumerate(range(0, len(sheets), SHEETS_A_PDF), 1):
        name = "proof.pdf" if len(sheets) <= SHEETS_A_PDF else f"proof-{number:03d}.pdf"
        stream.add(_drawn(sheets_pdf, title, sheets[at : at + SHEETS_A_PDF]), name)


def _drawn(
    draw: Callable[[str, Sequence[ProofSheet]], str | bytes], title: str, sheets: Sequence[ProofSheet]
) -> Iterator[bytes]:
    """What is drawn only when the stream comes to it."""
    drawn = draw(title, sheets)
    yield drawn.encode() if isinstance(drawn, str) else drawn
