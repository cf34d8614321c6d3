"""Notes that a source gets from the other sources of its job."""

from collections import defaultdict
from collections.abc import Sequence
from contextlib import suppress

from nicelevel.core.errors import LostError
from nicelevel.core.measure.neighbours import neighbour_notes
from nicelevel.core.values import Note
from nicelevel.core.values import Reading as Measured
from nicelevel.core.words import listed
from nicelevel.store.audio import AudioFolder
from nicelevel.store.models import Source
from nicelevel.store.readings import load_figures, prefetch_figures


def noted_readings(sources: Sequence[Source], audio: AudioFolder) -> dict[int, Measured]:
    """Figures of measured sources of one job by their ids, with the notes that neighbours give added."""
    figures, same = {}, defaultdict(list)
    prefetch_figures([source.digest for source in sources], audio)
    for source in sources:
        same[source.digest].append(source)
        with suppress(LostError):  # it is going to be measured again
            figures[source.id] = load_figures(source.digest, audio)
    notes = dict(zip(figures, neighbour_notes(list(figures.values())), strict=True))
    noted = {}
    for source in sources:
        if reading := figures.get(source.id):
            extra = (*_same_file(source, same), *notes[source.id])
            noted[source.id] = reading.with_notes((*reading.notes, *extra)) if extra else reading
    return noted


def _same_file(source: Source, same: dict[str, list[Source]]) -> tuple[Note, ...]:
    """Where another source of the job has the same contents under another name. same: sources by their contents."""
    titles = [each.title for each in same[source.digest] if each.id != source.id]
    return (Note("same_file", f"The same file as {listed(titles)}, to the last bit."),) if titles else ()
