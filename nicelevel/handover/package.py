"""A package as a stream: stored, not deflated (audio does not shrink), with its papers."""

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path

from zipstream import ZIP_STORED, ZipStream

from nicelevel.core.files.names import safe_name
from nicelevel.core.package import CHECKSUMS_NAME, Packed, checksum_list, with_own_names
from nicelevel.report.proof_sheet import ProofSheet, sheets_csv
from nicelevel.store.audio import AudioFolder
from nicelevel.store.current import current_deliverables
from nicelevel.store.deliverables import file_of
from nicelevel.store.models import Deliverable, Job

from .manifest import MANIFEST_NAME, manifest
from .sheets import proofs_text, sheet_of, sheets_html, sheets_pdf

SHEETS_A_PDF = 50
"""A sheet takes about a fifth of a second: more of them come in several files, so that the download goes on."""


@dataclass(frozen=True)
class Package:
    """The deliverables of a job that are handed over, each with its file under the name it has inside."""

    job: Job
    deliverables: tuple[Deliverable, ...]
    files: tuple[Packed, ...]

    @property
    def name(self) -> str:
        return f"{safe_name(self.job.title)}.zip"

    @property
    def size_bytes(self) -> int:
        """Of its audio; the papers come on top."""
        return sum(each.size_bytes or 0 for each in self.deliverables)

    @property
    def checksums(self) -> str:
        return checksum_list(self.files)

    @property
    def manifest(self) -> str:
        return manifest(self.job.title, datetime.now(UTC), self.deliverables, self.files)


def package_of(job: Job, audio: AudioFolder, folder: Path) -> Package:
    """The package of a job as it is now; what was removed from the disk meanwhile is left out."""
    current = [each for each in current_deliverables(job.id, audio) if file_of(each, folder).exists()]
    files = with_own_names(Packed(file_of(each, folder), str(each.file_name), str(each.sha256)) for each in current)
    return Package(job, tuple(current), tuple(files))


def stream_package(package: Package, audio: AudioFolder) -> Iterator[bytes]:
    """The zip, piece by piece; files over 4 GiB and many of them are no matter (zip64).

    Proof goes with it, for people (PDF, a page) and for programs (JSON, CSV), drawn when its turn comes. The database
    is asked before, for the stream outlives its request.
    """
    stream = ZipStream(compress_type=ZIP_STORED)
    for packed in package.files:
        stream.add_path(packed.path, packed.name)
    stream.add(package.checksums.encode(), CHECKSUMS_NAME)
    stream.add(package.manifest.encode(), MANIFEST_NAME)
    if package.deliverables:
        _add_proof(stream, package, audio)
    return iter(stream)


def _add_proof(stream: ZipStream, package: Package, audio: AudioFolder) -> None:
    sheets = [sheet_of(each, audio) for each in package.deliverables]
    title = package.job.title
    stream.add(sheets_csv(sheets).encode(), "proof.csv")
    stream.add(proofs_text(package.deliverables).encode(), "proof.json")
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
