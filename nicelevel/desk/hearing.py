"""What can be heard of a source: itself, its plans, what was written of it, the reference, other versions."""

import re
import uuid
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Literal

from nicelevel.core.channels import Layout, layout_from_count
from nicelevel.core.digest import seed_of
from nicelevel.core.errors import NiceLevelError, NotFoundError
from nicelevel.core.files.between import kept_open
from nicelevel.core.files.decode import decode
from nicelevel.core.hear import FileProgramme, Finish, HeardLevel, NoiseOf, PlanProgramme, heard_lufs
from nicelevel.core.hear.programmes import AC3_DELAY_FRAMES, NoiseKind
from nicelevel.core.prepare.for_output import recipe_for_two
from nicelevel.core.signals import Seekable, Signal
from nicelevel.core.specs.format_words import encoding_word
from nicelevel.core.stages import Edit, Stage
from nicelevel.core.steps import Chain
from nicelevel.core.steps.chain import recipe_digest
from nicelevel.core.values import Plan, Reading
from nicelevel.store.audio import AudioFolder
from nicelevel.store.deliverables import KEPT_FILES, deliverables_of, file_of, find_deliverable
from nicelevel.store.depot import bring
from nicelevel.store.jobs import destinations_of, find_destination
from nicelevel.store.models import Deliverable, Destination, Source
from nicelevel.store.readings import is_measured, load_figures
from nicelevel.store.sources import find_source
from nicelevel.store.specs import spec_of

from .contents import contents_of
from .current import is_as_planned, is_of_present_spec
from .planning import limited_of, plans_of, spec_at
from .roll import roll_of

GONE = "This is not there to be heard any more."

HEARD_COPY = "heard.wav"

_KEY = re.compile(r"(source|made)-\d{1,18}|step-\d{1,18}-\d{1,3}|plan-\d{1,18}-\d{1,18}(-\d{1,4})?")

Kind = Literal["source", "plan", "made", "reference", "version"]


@dataclass(frozen=True)
class Audible:
    """One thing that can be heard. stamp: another one where what is heard under the same key has changed.

    is_here: of the source itself, at the destination that is looked at; address: where its seconds are, if that is no
    matter of its key.
    """

    key: str
    kind: Kind
    name: str
    detail: str
    level: HeardLevel
    rate_hz: int
    duration_s: float
    stamp: str
    is_lossy: bool = False
    bits: int | None = None
    is_here: bool = False
    address: str = ""


@dataclass(frozen=True)
class Fold:
    """By how much a fold-down for two loudspeakers is louder, and its peak higher, than what it is made of."""

    louder_lu: float = 0.0
    higher_db: float = 0.0


def takes_of(source: Source, destination: Destination | None, audio: AudioFolder) -> tuple[Audible, ...]:
    """What a measured source can be heard as, itself first; then at a destination, at the others, other versions."""
    here, fold = [_of_source(source, "source", audio)], fold_of(source, audio)
    made = deliverables_of(source.job_id, KEPT_FILES, [source.id])
    others = [each for each in destinations_of(source.job_id) if destination is None or each.id != destination.id]
    if destination is not None:
        plans = plans_at(source, destination, audio)
        here += _planned(source, destination, plans, "Plan", fold, of_each=True)
        here += _made(made, destination, plans, "Deliverable", fold)
    takes = [replace(each, is_here=True) for each in here]
    takes += _reference(source, destination, audio) if destination else []
    for each in others:
        plans, name = plans_at(source, each, audio), spec_of(each.spec).spec.name
        takes += _made(made, each, plans, name, fold)[:1] or _planned(source, each, plans, name, fold)
    known = {each.key for each in takes}
    return (*takes, *(each for each in _versions(source, audio) if each.key not in known))


def landing_of(source: Source, destination: Destination, audio: AudioFolder) -> Audible:
    """How a measured source lands at a destination: what was written, else its plan, else itself as it is."""
    plans = plans_at(source, destination, audio)
    written, fold = deliverables_of(source.job_id, KEPT_FILES, [source.id]), fold_of(source, audio)
    made = _made(written, destination, plans, source.title, fold)
    planned = _planned(source, destination, plans, source.title, fold)
    return (made or planned or [_of_source(source, "version", audio)])[0]


def plan_at(source: Source, destination: Destination, audio: AudioFolder) -> Plan | None:
    """The plan that the board shows; None where there is none yet."""
    plans = plans_at(source, destination, audio)
    return plans[0].shown if plans else None


def plans_at(source: Source, destination: Destination, audio: AudioFolder) -> tuple[Plan, ...] | None:
    """The plans of all formats; None where there are none yet."""
    spec = spec_at(source, destination)
    try:
        return plans_of(source, spec, audio)
    except NiceLevelError:
        return None


def _of_source(source: Source, kind: Kind, audio: AudioFolder) -> Audible:
    reading = load_figures(source.digest, audio)
    name = "Source" if kind == "source" else source.title
    detail = {"source": source.title, "reference": "the others are matched to it", "version": "another version"}[kind]
    level = _level(reading, fold_of(source, audio))
    return Audible(f"source-{source.id}", kind, name, detail, level, *_length(reading), source.digest[:16])


def heard_source(source: Source, name: str, address: str, audio: AudioFolder) -> Audible:
    """A measured source under a name of the caller's, its seconds at an address of its own."""
    return replace(_of_source(source, "source", audio), name=name, address=address, is_here=True)


def heard_made(made: Deliverable, name: str, address: str, audio: AudioFolder) -> Audible:
    """A written file under a name of the caller's, its seconds at an address of its own."""
    take = _of_made(made, name, fold_of(made.source, audio))
    return replace(take, address=address, is_here=True)


def _shown(plans: Sequence[Plan] | None) -> list[Plan]:
    """The plans that can be heard, in the order of the spec's formats; files per channel are one whole programme."""
    return list(dict.fromkeys(each.shown for each in plans or ()))


def _planned(
    source: Source,
    destination: Destination,
    plans: Sequence[Plan] | None,
    name: str,
    fold: Fold,
    of_each: bool = False,
) -> list[Audible]:
    """Plans that are not rendered yet, of the first format or of each; of files per channel the whole programme."""
    shown = _shown(plans)
    takes = []
    for number, plan in enumerate(shown if of_each else shown[:1]):
        if plan.action == "as_is" and not plan.output.is_lossy:
            continue
        stamp = f"{source.digest[:8]}-{plan.gain_db:.4f}-{plan.limiting_db:.4f}-{destination.spec_id}-{number}"
        key, output = f"plan-{source.id}-{destination.id}{f'-{number}' if number else ''}", plan.output
        called = f"{name}, {encoding_word(output.coding)}" if of_each and len(shown) > 1 else name
        detail = f"{spec_of(destination.spec).spec.name}, not rendered yet"
        level, length = _level(plan.predicted, fold), _length(plan.predicted)
        is_encoded = output.is_lossy and not output.in_steps
        takes.append(Audible(key, "plan", called, detail, level, *length, stamp, is_encoded, output.bits))
    return takes


def _made(
    made: Sequence[Deliverable], destination: Destination, plans: Sequence[Plan] | None, name: str, fold: Fold
) -> list[Audible]:
    """What was written for the present spec as it is planned today; a file of a single channel is none."""
    here = [
        each
        for each in made
        if each.destination_id == destination.id
        if is_of_present_spec(each) and is_as_planned(each, plans)
        if each.measured and not (each.plan or {}).get("format", {}).get("channel")
    ]
    several = len(here) > 1
    return [
        _of_made(each, f"{name}, {encoding_word(each.measured['encoding'])}" if several else name, fold)
        for each in here
    ]


def _of_made(made: Deliverable, name: str, fold: Fold) -> Audible:
    return Audible(
        f"made-{made.id}",
        "made",
        name,
        str(made.file_name),
        _level_of_made(made, fold),
        made.measured["sample_rate"],
        made.measured["duration_s"],
        str(made.sha256)[:16],
        bits=made.measured["bits_declared"],
    )


def _reference(source: Source, destination: Destination, audio: AudioFolder) -> list[Audible]:
    reference = destination.reference
    if reference is None or reference.id == source.id or reference.state != "measured":
        return []
    return [_of_source(reference, "reference", audio)]


def _versions(source: Source, audio: AudioFolder) -> list[Audible]:
    standing = roll_of(source.job_id, audio).standings.get(source.id)
    keys = [key for key in (standing.versions if standing else ()) if key != source.id]
    return [_of_source(each, "version", audio) for each in map(find_source, keys) if each]


def fold_of(source: Source, audio: AudioFolder) -> Fold:
    """How the fold-down that two loudspeakers play differs from the source it is made of.

    Not at all for one and two channels; nor until the fold-down has been measured.
    """
    reading = load_figures(source.digest, audio)
    recipe = recipe_for_two(reading.source.shape)
    digest = recipe_digest(source.digest, recipe) if recipe else ""
    if not recipe or not is_measured(digest):
        return Fold()
    folded = load_figures(digest, audio)
    return Fold(folded.integrated_lufs - reading.integrated_lufs, folded.true_peak_dbtp - reading.true_peak_dbtp)


def _level(reading: Reading, fold: Fold) -> HeardLevel:
    return _heard_level(reading.integrated_lufs, reading.true_peak_dbtp, reading.source.layout, fold)


def _level_of_made(made: Deliverable, fold: Fold) -> HeardLevel:
    silent = float("-inf")
    lufs, peak = (silent if made.measured[key] is None else made.measured[key] for key in _LEVELS_OF_MADE)
    return _heard_level(lufs, peak, layout_from_count(made.measured["channels"]), fold)


_LEVELS_OF_MADE = ("integrated_lufs", "true_peak_dbtp")


def _heard_level(lufs: float, true_peak_dbtp: float, layout: Layout, fold: Fold) -> HeardLevel:
    if len(layout.positions) <= 2:
        return HeardLevel(heard_lufs(lufs, layout), true_peak_dbtp)
    return HeardLevel(lufs + fold.louder_lu, true_peak_dbtp + fold.higher_db)


def _length(reading: Reading) -> tuple[int, float]:
    return reading.source.sample_rate_hz, reading.source.duration_s


@contextmanager
def opened(key: str, audio: AudioFolder, folder: Path, finish: Finish = "exact") -> Iterator[Seekable]:
    """What the key of a take names, open for hearing. folder: of deliverables. Raises NotFoundError."""
    kind, *numbers = _read(key)
    if kind == "plan":
        with _opened_plan(key, audio, finish) as (programme, _, _):
            yield programme
        return
    if kind == "step":
        with _opened_step(numbers[0], numbers[1], audio) as signal:
            yield signal
        return
    path = _file_path(kind, numbers[0], audio, folder)
    late = AC3_DELAY_FRAMES if kind == "made" and path.suffix == ".ac3" else 0
    with kept_open(from_anywhere(path)) as file:
        yield FileProgramme(file, late)


@contextmanager
def opened_noise(key: str, kind: NoiseKind, audio: AudioFolder) -> Iterator[Seekable]:
    """The rounding noise of a plan, by the key of its take. Raises NotFoundError."""
    with _opened_plan(key, audio, "exact") as (programme, plan, path):
        yield NoiseOf(programme, plan.output, kind, seed_of(path))


def _read(key: str) -> tuple[str, *tuple[int, ...]]:
    """The kind of a key and its one or two numbers."""
    if not _KEY.fullmatch(key):
        raise NotFoundError(GONE)
    kind, *numbers = key.split("-")
    return kind, *map(int, numbers)


@contextmanager
def _opened_plan(key: str, audio: AudioFolder, finish: Finish) -> Iterator[tuple[PlanProgramme, Plan, Path]]:
    kind, *numbers = _read(key)
    source_id, destination_id, number = (*numbers, 0, 0)[:3]
    source, destination = find_source(source_id), find_destination(destination_id)
    found = plans_at(source, destination, audio) if kind == "plan" and source and destination else None
    shown = _shown(found)
    if source is None or number >= len(shown):
        raise NotFoundError(GONE)
    plan = shown[number]
    path = audio.playable_path(source.digest)
    with kept_open(path) as file:
        yield PlanProgramme(file, plan, limited_of(source, plan, audio), finish), plan, path


@contextmanager
def _opened_step(source_id: int, done: int, audio: AudioFolder) -> Iterator[Seekable]:
    """A source after so many steps of its recipe, on the time of what is prepared."""
    source = find_source(source_id)
    if source is None or source.state != "measured":
        raise NotFoundError(GONE)
    contents = contents_of(source)
    chain = contents.resolved(contents.recipe, audio)
    with kept_open(audio.playable_path(source.digest)) as file:
        signal: Signal = file
        for stage in stages_after(chain, done):
            signal = stage.on(signal)
        yield signal


def stages_after(chain: Chain, done: int) -> list[Stage]:
    """The stages of so many steps, and of those after them what moves in time."""
    first = [stage for each in chain.done[:done] for stage in each.stages]
    return [*first, *(stage for each in chain.done[done:] for stage in each.stages if isinstance(stage, Edit))]


def _file_path(kind: str, number: int, audio: AudioFolder, folder: Path) -> Path:
    source = find_source(number) if kind == "source" else None
    if source and source.state == "measured":
        return audio.playable_path(source.digest)
    made = find_deliverable(number) if kind == "made" else None
    if made and made.state in KEPT_FILES:
        return bring(file_of(made, folder))
    raise NotFoundError(GONE)


def from_anywhere(path: Path) -> Path:
    """A file, or a copy beside it where it can be read from its start alone, made when it is first heard."""
    with kept_open(path) as file:
        if file.can_seek:
            return path
    copy = path.with_name(HEARD_COPY)
    if not copy.exists():
        part = path.with_name(f".{uuid.uuid4().hex}.part")
        try:
            decode(path, part)
            part.replace(copy)
        finally:
            part.unlink(missing_ok=True)
    return copy
