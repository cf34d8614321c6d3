"""Several deliverables and sources as programmes of one file."""

import uuid
from collections.abc import Iterator, Sequence
from contextlib import ExitStack, contextmanager, suppress
from dataclasses import asdict, dataclass, replace
from pathlib import Path
from typing import Any

from nicelevel.core.channels import Layout, layout_from_count, layout_of_name
from nicelevel.core.contribution import Wanted, contribute
from nicelevel.core.contribution.contribute import refuse_wanted
from nicelevel.core.errors import NiceLevelError, SpecError
from nicelevel.core.files.staged import StagedFile
from nicelevel.core.programmes import Joined, PartError, Programme, join
from nicelevel.core.programmes.joining import header_of, refuse_what_does_not_fit
from nicelevel.core.programmes.laid_out import lay_out
from nicelevel.core.steps import Chain
from nicelevel.core.steps.chain import with_recipe
from nicelevel.core.values import LOSSY
from nicelevel.core.values import Source as Described
from nicelevel.desk.contents import contents_of, described_of
from nicelevel.desk.roll import counting_sources
from nicelevel.store.audio import AudioFolder
from nicelevel.store.deliverables import file_of, find_deliverable
from nicelevel.store.depot import bring
from nicelevel.store.models import Deliverable, Source
from nicelevel.store.readings import load_figures
from nicelevel.store.sources import find_source
from nicelevel.store.specs import spec_of

OF_SOURCES = "s"
"""What the keys of sources begin with; those of deliverables are their numbers."""

GONE = "A file that was chosen for it is not there any more."


@dataclass(frozen=True)
class Part:
    """A programme of one file: a proved deliverable, or a source with its own steps done to it.

    key: how it is chosen, and kept until it is sent; of: where it comes from, in words; chain: what is done to what
    is read, None for nothing.
    """

    key: str
    label: str
    file_name: str
    of: str
    layout: Layout
    rate_hz: int
    sha256: str
    path: Path
    chain: Chain | None = None

    @property
    def is_source(self) -> bool:
        return self.key.startswith(OF_SOURCES)


def parts_of_deliverables(made: Sequence[Deliverable], folder: Path) -> list[Part]:
    """Those that may stand beside others.

    folder: of all deliverables. What was coded with loss is decoded before it could, and would be another file.
    """
    return [_part_of_deliverable(each, folder) for each in made if _is_whole(each.measured)]


def _is_whole(measured: dict[str, Any] | None) -> bool:
    return bool(measured) and measured["encoding"] not in LOSSY  # type: ignore[index]


def _part_of_deliverable(made: Deliverable, folder: Path) -> Part:
    measured = made.measured or {}
    count, name = int(measured.get("channels", 1)), str(measured.get("layout", "unknown"))
    return Part(
        key=str(made.id),
        label=made.source.title,
        file_name=str(made.file_name),
        of=spec_of(made.spec).spec.name,
        layout=layout_of_name(name) if name != "unknown" else layout_from_count(count),
        rate_hz=int(measured.get("sample_rate", 0)),
        sha256=str(made.sha256),
        path=file_of(made, folder),
    )


def parts_of_sources(job_id: int, audio: AudioFolder) -> list[Part]:
    """The sources of a job that count, each with its steps; what is still to be listened to is left out."""
    found = []
    for each in counting_sources(job_id, audio):
        with suppress(NiceLevelError):
            if each.state == "measured" and load_figures(each.digest, audio).source.encoding not in LOSSY:
                found.append(_part_of_source(each, audio))
    return found


def _part_of_source(source: Source, audio: AudioFolder) -> Part:
    """Raises as `Contents.resolved`, and LostError."""
    contents = contents_of(source)
    chain, described = contents.resolved(contents.recipe, audio), described_of(contents, audio)
    return Part(
        key=f"{OF_SOURCES}{source.id}",
        label=source.title,
        file_name=source.file_name,
        of="as it came" if chain.is_nothing else "with its steps",
        layout=described.layout,
        rate_hz=described.sample_rate_hz,
        sha256=source.digest,
        path=audio.existing_path(source.digest),
        chain=None if chain.is_nothing else chain,
    )


def join_parts(parts: Sequence[Part], to: Path, wanted: Wanted | None = None) -> Joined:
    """Write some parts into one file, in this order.

    wanted: what it is to say as a contribution, None where it is none. Raises SpecError where they do not fit
    together, named by the file at fault.
    """
    refuse_parts(parts, wanted)
    labels = [each.label for each in parts]
    with _naming(parts), _laid_out(parts, to.parent) as paths:
        return contribute(paths, to, labels, wanted).joined if wanted else join(paths, to, labels)


@contextmanager
def _laid_out(parts: Sequence[Part], folder: Path) -> Iterator[list[Path]]:
    """The file of each part; what steps make of one is written for as long as the block lasts."""
    with ExitStack() as held:
        paths = []
        for each in parts:
            if each.chain is not None:
                # A name of its own: the same source may be joined by two at once.
                staged = StagedFile(folder / f"{uuid.uuid4().hex}.wav")
                held.callback(staged.discard)
                lay_out(each.path, each.chain, staged.path)
                paths.append(staged.path)
            else:
                paths.append(bring(each.path))
        yield paths


def refuse_parts(parts: Sequence[Part], wanted: Wanted | None = None) -> None:
    """Raises as `join_parts` does before anything is written, told by headers alone."""
    with _naming(parts):
        refuse_what_does_not_fit([_header_of(number, each) for number, each in enumerate(parts)])
    if wanted:
        refuse_wanted(wanted)


def _header_of(number: int, part: Part) -> Described:
    source = header_of(number, bring(part.path))
    return with_recipe(source, part.chain) if part.chain else source


@contextmanager
def _naming(parts: Sequence[Part]) -> Iterator[None]:
    if len(parts) < 2:
        raise SpecError("One file of several programmes needs two files at least.")
    try:
        yield
    except PartError as error:
        raise SpecError(f"{parts[error.number].file_name}: {error.error.message}") from error


def programmes_beside(parts: Sequence[Part]) -> tuple[Programme, ...]:
    """The programmes of one file of these."""
    beside: list[Programme] = []
    done = 0
    for each in parts:
        count = len(each.layout.positions)
        beside.append(Programme(each.label, tuple(range(done + 1, done + count + 1)), each.layout))
        done += count
    return tuple(beside)


def contribution_json(parts: Sequence[Part], wanted: Wanted) -> dict[str, Any]:
    """As it is kept until it is sent."""
    return {"parts": [{"key": each.key, "label": each.label} for each in parts], "wanted": asdict(wanted)}


def write_contribution(stored: dict[str, Any], folder: Path, audio: AudioFolder, to: Path) -> list[Part]:
    """Write what was kept, of the files as they are now; which those are. Raises SpecError where one is gone."""
    parts = [_found_again(each, folder, audio) for each in stored["parts"]]
    join_parts(parts, to, Wanted(**stored["wanted"]))
    return parts


def _found_again(kept: dict[str, Any], folder: Path, audio: AudioFolder) -> Part:
    # Before sources could be in it their numbers alone were kept.
    key = str(kept.get("key", kept.get("deliverable")))
    if key.startswith(OF_SOURCES):
        source = find_source(int(key.removeprefix(OF_SOURCES)))
        if source is None or source.trashed_at or source.state != "measured":
            raise SpecError(GONE)
        part = _part_of_source(source, audio)
    else:
        made = find_deliverable(int(key))
        if made is None or made.state != "proved":
            raise SpecError(GONE)
        part = _part_of_deliverable(made, folder)
    return replace(part, label=kept["label"])
