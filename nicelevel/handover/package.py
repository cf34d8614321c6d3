"""A package as a stream: stored, not deflated (audio does not shrink), with its papers."""

import hashlib
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path

from zipstream import ZIP_STORED, ZipStream

from nicelevel.core.errors import LostError
from nicelevel.core.files.names import packed_path, safe_name
from nicelevel.core.package import CHECKSUMS_NAME, Packed, checksum_list, with_own_names
from nicelevel.desk.current import Absent, absent_files, current_deliverables
from nicelevel.report.proof_sheet import ProofSheet, rules_csv, sheets_csv
from nicelevel.store.audio import AudioFolder
from nicelevel.store.database import connected
from nicelevel.store.deliverables import FILE_CHANGED, FILE_LOST, file_of, lose_deliverable
from nicelevel.store.depot import bring, size_there
from nicelevel.store.models import Deliverable, Job
from nicelevel.store.specs import kept_version

from .manifest import ABSENT_NAME, MANIFEST_NAME, absent_text, manifest, specs_of
from .sheets import proofs_text, sheet_of, sheets_html, sheets_pdf

PIECE_BYTES = 1 << 20

SHEETS_A_PDF = 50
"""A sheet takes about a fifth of a second: more of them come in several files, so that the download goes on."""


@dataclass(frozen=True)
class Package:
    """The deliverables of a job that are handed over, each with its file under the name it has inside.

    absent: what belongs to it and is not in it; the package says so in its papers.
    """

    job: Job
    deliverables: tuple[Deliverable, ...]
    files: tuple[Packed, ...]
    absent: tuple[Absent, ...] = ()

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
        return manifest(self.job.title, datetime.now(UTC), self.deliverables, self.files, self.absent)


def package_of(job: Job, audio: AudioFolder, folder: Path) -> Package:
    """The package of a job as it is now. What has gone from the disk meanwhile is left out, and said on its row."""
    current = [each for each in current_deliverables(job.id, audio) if _is_there(each, folder)]
    files = with_own_names(Packed(file_of(each, folder), _path_of(each), str(each.sha256)) for each in current)
    return Package(job, tuple(current), tuple(files), tuple(absent_files(job.id, audio)))


def _path_of(made: Deliverable) -> str:
    return packed_path(str(made.file_name), kept_version(made.spec_id).spec)


def _is_there(made: Deliverable, folder: Path) -> bool:
    """Whether its file is there in the length that was proved; where it is not, its row says so from now on."""
    try:
        size_bytes = size_there(file_of(made, folder))
    except OSError:
        size_bytes = None
    if size_bytes == made.size_bytes:
        return True
    lose_deliverable(made, FILE_LOST if size_bytes is None else FILE_CHANGED)
    return False


def stream_files(deliverables: Sequence[Deliverable], folder: Path) -> Iterator[bytes]:
    """Some written files and their checksums as a zip, without any other paper."""
    named = [Packed(file_of(each, folder), str(each.file_name), str(each.sha256)) for each in deliverables]
    stream, files = ZipStream(compress_type=ZIP_STORED), with_own_names(named)
    for made, packed in zip(deliverables, files, strict=True):
        stream.add(_checked(made, packed), packed.name, size=made.size_bytes)
    stream.add(checksum_list(files).encode(), CHECKSUMS_NAME)
    return iter(stream)


def stream_package(package: Package, audio: AudioFolder) -> Iterator[bytes]:
    """The zip, piece by piece; files over 4 GiB and many of them are no matter (zip64).

    Proof goes with it, for people (PDF, a page) and for programs (JSON, CSV), drawn when its turn comes. The database
    is asked before, for the stream outlives its request.
    """
    stream = ZipStream(compress_type=ZIP_STORED)
    for made, packed in zip(package.deliverables, package.files, strict=True):
        stream.add(_checked(made, packed), packed.name, size=made.size_bytes)
    if package.absent:
        stream.add(absent_text(package.job.title, package.absent).encode(), ABSENT_NAME)
    stream.add(package.checksums.encode(), CHECKSUMS_NAME)
    stream.add(package.manifest.encode(), MANIFEST_NAME)
    for name, toml in specs_of(package.deliverables).items():
        stream.add(toml.encode(), name)
    if package.deliverables:
        _add_proof(stream, package, audio)
    return iter(stream)


def _checked(made: Deliverable, packed: Packed) -> Iterator[bytes]:
    """The bytes of a file, held against its checksum on their way.

    Raises LostError at the end of one that is not what was proved: the package breaks off rather than hold it, and
    the next one does not have it.
    """
    digest = hashlib.sha256()
    with bring(packed.path).open("rb") as file:
        while piece := file.read(PIECE_BYTES):
            digest.update(piece)
            yield piece
    if digest.hexdigest() != packed.sha256:
        with connected():
            lose_deliverable(made, FILE_CHANGED)
        raise LostError(f"{packed.name} is not as it was proved any more, so the package was not finished.")


def _add_proof(stream: ZipStream, package: Package, audio: AudioFolder) -> None:
    sheets = [sheet_of(each, audio) for each in package.deliverables]
    title = package.job.title
    stream.add(sheets_csv(sheets).encode(), "proof.csv")
    stream.add(rules_csv(sheets).encode(), "proof-rules.csv")
    stream.add(proofs_text(package.deliverables, package.absent).encode(), "proof.json")
    stream.add(_drawn(sheets_html, title, sheets, package.absent), "proof.html")
    for number, at in enumerate(range(0, len(sheets), SHEETS_A_PDF), 1):
        name = "proof.pdf" if len(sheets) <= SHEETS_A_PDF else f"proof-{number:03d}.pdf"
        stream.add(_drawn(sheets_pdf, title, sheets[at : at + SHEETS_A_PDF], () if at else package.absent), name)


def _drawn(
    draw: Callable[[str, Sequence[ProofSheet], Sequence[Absent]], str | bytes],
    title: str,
    sheets: Sequence[ProofSheet],
    absent: Sequence[Absent],
) -> Iterator[bytes]:
    """What is drawn only when the stream comes to it."""
    drawn = draw(title, sheets, absent)
    yield drawn.encode() if isinstance(drawn, str) else drawn
