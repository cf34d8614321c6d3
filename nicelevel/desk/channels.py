"""The channels of a source: what they have in common, what they become, and what programmes they are."""

import json
from collections.abc import Sequence
from dataclasses import dataclass
from functools import lru_cache
from typing import Any

from nicelevel.core.channels import layout_of_name
from nicelevel.core.crossing import InCommon, listen_in_common, loudness_alone
from nicelevel.core.crossing.presets import Preset, Rows, presets_of
from nicelevel.core.errors import SpecError
from nicelevel.core.files import take_in
from nicelevel.core.plan.sum_check import SumCheck
from nicelevel.core.prepare import prepare
from nicelevel.core.programmes import Programme, Programmes, programmes_of
from nicelevel.core.programmes.adding_up import Addition, addition_in, check_addition
from nicelevel.core.steps import Step, recipe_from_json, recipe_to_json, resolve
from nicelevel.core.steps.keep import Keep
from nicelevel.core.steps.mix import Mix
from nicelevel.core.values import Reading, Shape
from nicelevel.store.audio import AudioFolder
from nicelevel.store.models import Source
from nicelevel.store.readings import load_figures
from nicelevel.store.sources import add_source, give_recipe
from nicelevel.store.trash import trash_source

from .contents import OFF
from .recipes import OWN

CROSSING = ("mix", "fold", "keep", "flip")
"""The steps that the view draws; it draws one that stands first, and puts one there."""


@dataclass(frozen=True)
class Crossing:
    """rows: of what results, with the share of each channel that comes in."""

    layout: str
    rows: Rows


@lru_cache(maxsize=32)
def in_common(digest: str, audio: AudioFolder) -> InCommon:
    """What the channels of some contents have in common: listened to once. Raises as a file that cannot be read."""
    with take_in(audio.existing_path(digest)) as opened:
        return listen_in_common(opened)


@lru_cache(maxsize=128)
def levels_alone(digest: str, audio: AudioFolder) -> tuple[float, ...]:
    """The loudness of each channel as if it were the only one."""
    with take_in(audio.existing_path(digest)) as opened:
        return tuple(loudness_alone(opened))


@lru_cache(maxsize=512)
def found_programmes(digest: str, audio: AudioFolder) -> Programmes:
    """The programmes of some contents that were measured: a coded file is not opened again, which may take long."""
    return programmes_of(audio.existing_path(digest), source=load_figures(digest, audio).source)


def names_of_programmes(source: Source, audio: AudioFolder) -> tuple[str, ...]:
    """Of a file that names several itself and stands on its board as one; none where nothing is to be said of it."""
    if source.state != "measured" or source.recipe_json or not audio.is_kept(source.digest):
        return ()
    found = found_programmes(source.digest, audio)
    names = tuple(each.label for each in found.programmes)
    return names if found.are_named and len(names) > 1 else ()


@lru_cache(maxsize=128)
def what_adds_up(digest: str, audio: AudioFolder) -> tuple[Addition, SumCheck] | None:
    """Whether the programmes of a file add up to one of them; None where no name says that it is their sum.

    Raises as a file that cannot be read.
    """
    addition = addition_in(found_programmes(digest, audio).programmes)
    return (addition, check_addition(audio.existing_path(digest), addition)) if addition else None


LONGEST_DRAFT_S = 1_800.0
"""What is longer is measured once it is kept, in the background."""


@lru_cache(maxsize=128)
def measured_as_drawn(digest: str, crossing: Crossing, audio: AudioFolder) -> Reading | None:
    """The reading of some contents with their channels as they are drawn; None where that takes too long to wait for.

    Raises as a file that cannot be read.
    """
    described = load_figures(digest, audio).source
    step = step_of(crossing, described.shape)
    if described.duration_s * described.channels > LONGEST_DRAFT_S:
        return None
    return prepare(audio.existing_path(digest), resolve(described.shape, (step,) if step else ())).reading


def shape_of(source: Source, audio: AudioFolder) -> Shape:
    """As it came."""
    return load_figures(source.digest, audio).source.shape


def crossing_of(source: Source, shape: Shape) -> Crossing:
    """What the first step of a source makes of its channels; what they are where that step is another one."""
    step = _first(source)
    as_it_came = presets_of(shape.layout)[0]
    stages = step.stages(shape, None) if step else ()
    if not stages:
        return Crossing(as_it_came.layout, as_it_came.rows)
    *_, stage = stages
    return Crossing(stage.after.layout.name, stage.rows)  # type: ignore[attr-defined]


def _first(source: Source) -> Step | None:
    told = _told(source)
    if not told or told[0].get(OFF) or told[0]["do"] not in CROSSING:
        return None
    return recipe_from_json(told[:1])[0]


def _told(source: Source) -> list[dict[str, Any]]:
    return json.loads(source.recipe_json) if source.recipe_json else []


def checked(told: str, shape: Shape) -> Crossing:
    """A crossing as a page tells it. Raises SpecError where it is none."""
    try:
        asked = json.loads(told)
        rows, layout = tuple(tuple(map(float, row)) for row in asked["rows"]), str(asked["layout"])
        if layout == shape.layout.name and len(rows) == shape.channels:
            refuse_odd(rows, shape)
            return Crossing(layout, rows)
        Mix.model_validate({"rows": rows, "layout": layout})
    except (ValueError, KeyError, TypeError) as error:
        raise SpecError(f"That is no way from {shape.layout.name} to other channels.") from error
    refuse_odd(rows, shape)
    return Crossing(layout, rows)


def refuse_odd(rows: Rows, shape: Shape) -> None:
    """Raises SpecError where rows are not those of a shape, or hold what is no share."""
    if any(len(row) != shape.channels or any(not abs(share) <= 1e6 for share in row) for row in rows):
        raise SpecError(f"Each row has a share of each of the {shape.channels} channels.")


def keep_crossing(source: Source, crossing: Crossing, shape: Shape) -> None:
    """Put the step that does it before the other steps of a source, in the place of one that stands there."""
    told = _told(source)
    rest = told[1:] if told and told[0]["do"] in CROSSING else told
    step = step_of(crossing, shape)
    steps = [*([] if step is None else recipe_to_json((step,))), *rest]
    name = (source.recipe_name or OWN) if steps or source.soft_db else None
    give_recipe(source, json.dumps(steps) if steps else None, name, source.soft_db)


def step_of(crossing: Crossing, shape: Shape) -> Step | None:
    """By its name where it has one, else by its matrix; None where nothing is changed."""
    as_it_came, *others = presets_of(shape.layout)
    if crossing.rows == as_it_came.rows and crossing.layout == as_it_came.layout:
        return None
    for preset in others:
        if preset.step and preset.layout == crossing.layout and _alike(preset, crossing):
            return preset.step
    return Mix.model_validate({"rows": crossing.rows, "layout": crossing.layout})


def law_of(crossing: Crossing, shape: Shape) -> str:
    """What is said of a crossing that is a usual one and sums anything."""
    presets = presets_of(shape.layout)[1:]
    return next((each.said for each in presets if each.layout == crossing.layout and _alike(each, crossing)), "")


def _alike(preset: Preset, crossing: Crossing) -> bool:
    pairs = zip(preset.rows, crossing.rows, strict=True)
    return all(abs(a - b) < 1e-9 for one, other in pairs for a, b in zip(one, other, strict=True))


def take_apart(source: Source, programmes: Sequence[Programme], audio: AudioFolder) -> list[Source]:
    """A source for each programme: the same audio with its channels alone in front. What it was is in the trash.

    Raises SpecError where the source has steps that were meant for all of its channels, or is in a set.
    """
    if _told(source):
        raise SpecError(f"{source.title} has steps of its own: they would be lost. Take them off first.")
    if source.leader_id is not None or source.set_kind is not None:
        raise SpecError(f"{source.title} is in a set: end that first.")
    made = []
    for each in programmes:
        title = f"{source.title} {each.label}"
        part = add_source(source.job_id, source.file_name, source.digest, source.size_bytes, title, source.kind)
        step = _step_for(each, shape_of(source, audio))
        if step is not None:
            give_recipe(part, json.dumps(recipe_to_json((step,))), OWN)
        made.append(part)
    trash_source(source)
    return made


def _step_for(programme: Programme, shape: Shape) -> Step | None:
    """What leaves only its channels, in a layout that is known where it has a name."""
    if programme.channels == tuple(range(1, shape.channels + 1)):
        return None
    numbers = tuple(number - 1 for number in programme.channels)
    rows = tuple(tuple(float(at == number) for at in range(shape.channels)) for number in numbers)
    positions = programme.layout.positions
    if len(numbers) > 2 and programme.layout.name != "unknown":
        known = layout_of_name(programme.layout.name)
        order = [positions.index(position) for position in known.positions]
        return Mix.model_validate({"rows": tuple(rows[at] for at in order), "layout": known.name})
    return Keep(channels=programme.channels)
