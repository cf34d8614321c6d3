"""Versions of a title in a job: which one counts, told from names and dates or chosen by hand."""

from collections.abc import Sequence
from dataclasses import dataclass

from nicelevel.core.files.names import stem_of
from nicelevel.core.versions import Dated, versions_of
from nicelevel.store.audio import AudioFolder
from nicelevel.store.changes import announce
from nicelevel.store.database import database
from nicelevel.store.models import Source
from nicelevel.store.readings import load_figures
from nicelevel.store.sources import sources_of


@dataclass(frozen=True)
class Standing:
    """How a source stands among the versions of its title, the newest first.

    by_choice: whether somebody chose what counts; is_unasked: it came after that choice, and nobody said anything of
    it yet; is_corrected: a file of the very same name, or one given for it, came later. instead: names of those that
    count where this one does not.
    """

    versions: tuple[int, ...]
    counts: bool
    by_choice: bool
    is_unasked: bool
    is_corrected: bool
    instead: tuple[str, ...]

    @property
    def place(self) -> int:
        """The same for all versions of a title, whichever is the newest."""
        return min(self.versions)


def standings_of(sources: Sequence[Source], audio: AudioFolder) -> dict[int, Standing]:
    """Of the sources of one job that are versions of a title, by their ids."""
    measured = {each.id: each for each in sources if each.state == "measured"}
    groups = versions_of(
        [
            Dated(
                each.id,
                stem_of(each.file_name),
                each.changed_at or each.added_at,
                load_figures(each.digest, audio).source.layout.positions,
                each.added_at,
                each.replaces_id,
            )
            for each in measured.values()
        ]
    )
    found = {}
    for group in groups:
        versions = [measured[key] for key in group]
        counting, by_choice = _counting(versions), any(each.counts for each in versions)
        instead = tuple(stem_of(each.file_name) for each in versions if each.id in counting)
        for at, each in enumerate(versions):
            counts = each.id in counting
            found[each.id] = Standing(
                tuple(group),
                counts,
                by_choice,
                by_choice and each.counts is None,
                any(_corrects(other, each) for other in versions[:at]),
                () if counts else instead,
            )
    return found


def _corrects(newer: Source, older: Source) -> bool:
    return newer.replaces_id == older.id or newer.file_name == older.file_name


def _counting(versions: Sequence[Source]) -> set[int]:
    """Ids of those that count: what was chosen, else the newest that was not set aside."""
    chosen = {each.id for each in versions if each.counts}
    return chosen or {next((each.id for each in versions if each.counts is None), versions[0].id)}


def set_aside(source: Source) -> None:
    """Keep that a version which came after the choice is not to count."""
    with database.atomic():
        Source.update(counts=False).where(Source.id == source.id).execute()
        announce(source.job_id, source.id)


def choose_version(source: Source, audio: AudioFolder, beside: bool) -> None:
    """Let a source count instead of the other versions of its title, or beside those that count."""
    sources = sources_of(source.job_id)
    standings = standings_of(sources, audio)
    if source.id not in standings:
        return
    versions = standings[source.id].versions
    counting = {key for key in versions if standings[key].counts} if beside else set()
    with database.atomic():
        for key in versions:
            Source.update(counts=key == source.id or key in counting).where(Source.id == key).execute()
            announce(source.job_id, key)
