"""Notes that a source gets from the other sources of its job."""

from collections.abc import Sequence
from contextlib import suppress

from nicelevel.core.errors import LostError
from nicelevel.core.measure.neighbours import neighbour_notes
from nicelevel.core.values import Note
from nicelevel.core.values import Reading as Measured
from nicelevel.core.words import listed
from nicelevel.store.audio import AudioFolder
from nicelevel.store.models import Source
from nicelevel.store.readings import load_figures
from nicelevel.store.sources import sources_of


def with_neighbour_notes(source: Source, reading: Measured, audio: AudioFolder) -> Measured:
    """A reading of a source with the notes that its neighbours give it."""
    measured = [each for each in sources_of(source.job_id) if each.state == "measured"]
    noted = noted_readings(measured, audio)
    extra = noted[source.id].notes[len(reading.notes) :] if source.id in noted else ()
    return reading.with_notes((*reading.notes, *extra))


def noted_readings(sources: Sequence[Source], audio: AudioFolder) -> dict[int, Measured]:
    """Figures of measured sources of one job by their ids, with the notes that neighbours give added."""
    figures = {}
    for source in sources:
        with suppress(LostError):  # it is going to be measured again
            figures[source.id] = load_figures(source.digest, audio)
    notes = neighbour_notes(list(figures.values()))
    return {
        source_id: reading.with_notes((*reading.notes, *_same_file(source_id, sources), *extra))
        for (source_id, reading), extra in zip(figures.items(), notes, strict=True)
    }


def _same_file(source_id: int, sources: Sequence[Source]) -> tuple[Note, ...]:
    """Where another source of the job has the same contents under another name."""
    digest = next(each.digest for each in sources if each.id == source_id)
    same = [each.title for each in sources if each.digest == digest and each.id != source_id]
    return (Note("same_file", f"The same file as {listed(same)}, to the last bit."),) if same else ()
