"""What of a job is handed over: proved, and of the versions that count."""

from collections.abc import Sequence

from nicelevel.store.audio import AudioFolder
from nicelevel.store.models import Deliverable
from nicelevel.store.sources import sources_of
from nicelevel.store.versions import standings_of


def current_deliverables(job_id: int, audio: AudioFolder, deliverables: Sequence[Deliverable]) -> list[Deliverable]:
    """Those of sources that count: no older version of a title."""
    standings = standings_of(sources_of(job_id), audio)
    return [each for each in deliverables if each.source_id not in standings or standings[each.source_id].counts]
