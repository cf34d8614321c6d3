"""What of a job is handed over: proved, and of the versions that count."""

from nicelevel.store.audio import AudioFolder
from nicelevel.store.deliverables import deliverables_of
from nicelevel.store.models import Deliverable
from nicelevel.store.versions import counting_sources


def current_deliverables(job_id: int, audio: AudioFolder) -> list[Deliverable]:
    """Proved deliverables of sources that count: of no older version of a title."""
    counting = {each.id for each in counting_sources(job_id, audio)}
    return [each for each in deliverables_of(job_id, ["proved"]) if each.source_id in counting]
