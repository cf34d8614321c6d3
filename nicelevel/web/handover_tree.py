"""The data of the Handover screen: every file by folder, written or still planned, and what is kept out."""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from pathlib import Path, PurePosixPath

from nicelevel.core.files.names import deliverable_path, packed_path
from nicelevel.core.package import Packed, with_own_names
from nicelevel.core.plan.formats import outputs_beside
from nicelevel.core.values import Plan
from nicelevel.core.words import asked_and_found
from nicelevel.desk.planning import plans_of
from nicelevel.handover.package import Package, package_of
from nicelevel.store.audio import AudioFolder
from nicelevel.store.deliverables import UNFINISHED
from nicelevel.store.models import Deliverable, Job, Sending
from nicelevel.store.sendings import sendings_of

from .board import Board, board_of
from .board_rows import Cell, Row


@dataclass(frozen=True)
class Line:
    """A folder (no state), or a file: written, or as it is planned. `digest` is what its SHA-256 begins with."""

    name: str
    depth: int
    state: str | None = None
    action: str | None = None
    title: str = ""
    integrated_lufs: float | None = None
    true_peak_dbtp: float | None = None
    size_bytes: int | None = None
    size_is_estimate: bool = False
    sha256: str = ""
    deliverable: Deliverable | None = None
    cell: Cell | None = None
    answer: str = ""


@dataclass(frozen=True)
class KeptOut:
    """What does not go into the package, and why."""

    title: str
    destination: str
    reasons: tuple[str, ...]
    deliverable: Deliverable | None = None


@dataclass(frozen=True)
class Handover:
    job: Job
    package: Package
    lines: tuple[Line, ...]
    missed: tuple[KeptOut, ...]
    unmet: tuple[KeptOut, ...]
    older: tuple[str, ...]
    sendings: tuple[Sending, ...]

    @property
    def proved(self) -> int:
        return len(self.package.files)

    @property
    def unwritten(self) -> tuple[Line, ...]:
        """Files that are planned, those among them that are on the queue already."""
        return tuple(line for line in self.lines if line.state not in (None, "proved"))

    @property
    def unwritten_bytes(self) -> int:
        return sum(line.size_bytes or 0 for line in self.unwritten)

    @property
    def to_render(self) -> int:
        """How many files are not on the queue yet."""
        return sum(line.state not in UNFINISHED for line in self.unwritten)

    @property
    def has_changed(self) -> bool:
        """Whether the package is another than the one that was answered last."""
        answered = next((each for each in self.sendings if each.answer and not each.contribution), None)
        sent = {each["sha256"] for each in answered.contents or ()} if answered else set()
        return bool(sent) and sent != {each.sha256 for each in self.package.files}


def handover_of(job: Job, audio: AudioFolder, folder: Path) -> Handover:
    """Everything that the Handover screen shows of a job."""
    board, package = board_of(job, audio), package_of(job, audio, folder)
    sendings = tuple(sendings_of(job.id))
    answers = _answers(sendings)
    inside = [packed.name for packed in package.files]
    written = [_written(*each, answers) for each in zip(package.deliverables, inside, strict=True)]
    planned = list(_planned(board, {each.id for each in package.deliverables}, audio))
    named = with_own_names(Packed(Path(), line.name, "") for line in (*written, *planned))
    files = {packed.name: line for packed, line in zip(named, (*written, *planned), strict=True)}
    return Handover(
        job,
        package,
        tuple(_tree(files)),
        tuple(_missed(board)),
        tuple(_unmet(board)),
        tuple(row.source.file_name for row in board.rows if row.is_older),
        sendings,
    )


def _answers(sendings: Sequence[Sending]) -> dict[str, str]:
    """What was answered last of each file, by its digest: accepted with its package, or rejected for a reason."""
    found: dict[str, str] = {}
    for sending in reversed(sendings):
        digests = {each["path"]: each["sha256"] for each in sending.contents or ()}
        for file in (sending.answer or {}).get("files", ()):
            digest = digests.get(file["path"], "")
            found.pop(digest, None)
            if not file["accepted"]:
                found[digest] = "rejected"
            elif sending.state == "accepted":
                found[digest] = "accepted"
    return found


def _written(made: Deliverable, path: str, answers: dict[str, str]) -> Line:
    measured = made.measured or {}
    return Line(
        name=path,
        depth=0,
        state="proved",
        action=(made.plan or {}).get("action"),
        title=made.source.title,
        integrated_lufs=measured.get("integrated_lufs"),
        true_peak_dbtp=measured.get("true_peak_dbtp"),
        size_bytes=made.size_bytes,
        sha256=str(made.sha256),
        deliverable=made,
        answer=answers.get(str(made.sha256), ""),
    )


def _planned(board: Board, written: set[int], audio: AudioFolder) -> Iterator[Line]:
    """What is still to be written, under the name that it will have."""
    for row, cell in _places(board):
        if cell.plan is None or cell.plan.action == "cannot_meet" or row.source.kind == "sum":
            continue
        states = {each.output: each for each in cell.deliverables}
        for plan in plans_of(row.source, cell.spec, audio):
            made = states.get(plan.output.key)
            if plan.action == "cannot_meet" or (made and (made.id in written or made.state == "missed")):
                continue
            yield _line_of_plan(row, cell, plan, made)


def _line_of_plan(row: Row, cell: Cell, plan: Plan, made: Deliverable | None) -> Line:
    beside = outputs_beside(row.reading.source, cell.spec) if row.reading else ()
    under_way = made.state if made and made.state in ("queued", "rendering", "failed", "stopped") else "planned"
    return Line(
        name=packed_path(str(deliverable_path(row.source.title, cell.spec, plan.output, beside)), cell.spec),
        depth=0,
        state=under_way,
        action=plan.action,
        title=row.source.title,
        integrated_lufs=plan.predicted.integrated_lufs,
        true_peak_dbtp=plan.predicted.true_peak_dbtp,
        size_bytes=plan.predicted.source.size_bytes,
        size_is_estimate=plan.predicted.source.size_is_estimate,
        deliverable=made,
        cell=cell,
    )


def _places(board: Board) -> Iterator[tuple[Row, Cell]]:
    """Every cell whose file would be handed over."""
    for row in board.rows:
        for cell in row.cells:
            if not cell.is_older:
                yield row, cell


def _missed(board: Board) -> Iterator[KeptOut]:
    for row, cell in _places(board):
        for made in cell.deliverables:
            if made.state == "missed":
                reasons = tuple(
                    asked_and_found(each["text"], each["found"]) for each in made.findings or () if not each["meets"]
                )
                yield KeptOut(row.source.title, cell.spec.spec.name, reasons, made)


def _unmet(board: Board) -> Iterator[KeptOut]:
    for row, cell in _places(board):
        if cell.problem:
            yield KeptOut(row.source.title, cell.spec.spec.name, (cell.problem,))
        elif cell.plan and cell.plan.action == "cannot_meet":
            yield KeptOut(row.source.title, cell.spec.spec.name, cell.plan.reasons[1:2] or cell.plan.reasons)


def _tree(files: dict[str, Line]) -> Iterator[Line]:
    """Files in the order of their names, each folder said once before what is in it."""
    opened: Sequence[str] = ()
    for path, line in sorted(files.items(), key=lambda item: _in_order(item[0])):
        *folders, name = PurePosixPath(path).parts
        for depth, folder in enumerate(folders):
            if list(opened[: depth + 1]) != folders[: depth + 1]:
                yield Line(folder, depth)
        opened = folders
        yield replace(line, name=name, depth=len(folders))


def _in_order(path: str) -> list[tuple[bool, str]]:
    """Folders before files."""
    parts = PurePosixPath(path).parts
    return [(at + 1 == len(parts), part.casefold()) for at, part in enumerate(parts)]
