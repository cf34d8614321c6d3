"""Sources of one channel that are sides of one: what their names say, and the one source that they become."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import PurePath
from typing import Any

from nicelevel.core.channels import layout_from_count
from nicelevel.core.crossing.sides import (
    Mono,
    common_name,
    listen_to_sides,
    propose_sides,
    sentence_of_sides,
)
from nicelevel.core.errors import SpecError
from nicelevel.core.files.beside import alike
from nicelevel.core.files.names import stem_of
from nicelevel.store.audio import AudioFolder
from nicelevel.store.models import Source
from nicelevel.store.readings import load_figures
from nicelevel.store.sets import Proposal
from nicelevel.store.sides import add_sides
from nicelevel.store.sources import add_source, find_source
from nicelevel.store.trash import trash_source

from .proposals import proposals
from .versions import Standing, standings_of


@dataclass(frozen=True)
class AskedSides:
    """sources: in the order of the layout's channels. found: what was heard, a `sentence`; None before that."""

    name: str
    layout: str
    sources: tuple[Source, ...]
    found: dict[str, Any] | None


def asked_sides(
    sources: Sequence[Source],
    audio: AudioFolder,
    standings: Mapping[int, Standing] | None = None,
    proposed: Sequence[Proposal] | None = None,
) -> list[AskedSides]:
    """Measured sources of a job that are named like sides of one and that nobody has decided on.

    Those of a set are none, nor those that a set is proposed for. standings, proposed: of these sources, where they
    are known already.
    """
    standings = standings_of(sources, audio) if standings is None else standings
    proposed = proposals(sources, audio, standings=standings) if proposed is None else proposed
    of_sets = {each.id for proposal in proposed for each in proposal.sources}
    free = {
        each.id: each
        for each in sources
        if each.state == "measured" and each.kind != "sum" and each.id not in of_sets and not _is_more(each)
        if each.id not in standings or standings[each.id].counts
    }
    found = []
    for sides in propose_sides([_mono(each, audio) for each in free.values() if _has_one_channel(each, audio)]):
        asked = [free[int(str(key))] for key in sides.keys]
        first, others = asked[0], asked[1:]
        kept = first.sides or {}
        is_same = kept.get("members") == sorted(each.id for each in others)
        if not (is_same and kept.get("answer")):
            found.append(AskedSides(sides.name, sides.layout, tuple(asked), kept if is_same else None))
    return found


def _has_one_channel(source: Source, audio: AudioFolder) -> bool:
    return load_figures(source.digest, audio).source.channels == 1


def _mono(source: Source, audio: AudioFolder) -> Mono:
    return Mono(source.id, stem_of(source.file_name), load_figures(source.digest, audio).source)


def hear_sides(asked: AskedSides, audio: AudioFolder) -> dict[str, Any]:
    """What the audio says of it, as it is kept. Raises the errors of files that cannot be used."""
    paths = [audio.existing_path(each.digest) for each in asked.sources]
    found = listen_to_sides(asked.layout, paths)
    names = [each.title for each in asked.sources]
    return {"sentence": sentence_of_sides(found, names)}


def sides_in_order(chosen: Sequence[Source], audio: AudioFolder) -> tuple[str, str, list[Source]]:
    """A name, a layout and the order of its channels for sources that somebody chose: by their names where these say
    it, else as they were chosen. Raises SpecError where they cannot be one.
    """
    if any(each.state != "measured" for each in chosen):
        raise SpecError("Sources become one when all of them are measured.")
    by_id = {each.id: each for each in chosen}
    described = [load_figures(each.digest, audio).source for each in chosen]
    if len(by_id) < 2 or any(each.channels != 1 for each in described):
        raise SpecError("One source is made of two or more that have one channel each.")
    if len({alike(each) for each in described}) > 1:
        raise SpecError("They differ in rate, length or word length: sides of one recording have these in common.")
    if any(_is_more(each) for each in chosen):
        raise SpecError("One of them is in a set, or has steps of its own: end that first.")
    for sides in propose_sides([_mono(each, audio) for each in chosen]):
        if len(sides.keys) == len(chosen):
            return sides.name, sides.layout, [by_id[int(str(key))] for key in sides.keys]
    layout = layout_from_count(len(chosen)).name
    if layout == "unknown":
        raise SpecError(f"{len(chosen)} channels are in no known layout, and the names do not say one.")
    return common_name([each.title for each in chosen]), layout, list(chosen)


def _is_more(source: Source) -> bool:
    """Whether a source is more than a file as it came: in a set, or with steps of its own."""
    return bool(source.leader_id or source.set_kind or source.recipe_json)


def join_sides(name: str, layout: str, sides: Sequence[Source], audio: AudioFolder) -> Source:
    """One source of several; nothing is copied, and what they were is in the trash. name: what its file is called.

    Raises SpecError where one of them was taken out meanwhile: another window may have been quicker.
    """
    if any(each is None or each.trashed_at for each in (find_source(side.id) for side in sides)):
        raise SpecError("One of them was taken out meanwhile.")
    digest = audio.put_beside(layout, [each.digest for each in sides])
    add_sides(digest, [each.digest for each in sides])
    first = sides[0]
    file_name = f"{name}{PurePath(first.file_name).suffix}"
    size_bytes = sum(each.size_bytes for each in sides)
    title = common_name([each.title for each in sides])
    made = add_source(first.job_id, file_name, digest, size_bytes, title, first.kind, first.changed_at)
    for each in sides:
        trash_source(each)
    return made
