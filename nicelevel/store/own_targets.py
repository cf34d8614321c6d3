"""Targets that single sources have at a destination instead of the spec's."""

from nicelevel.core.specs import Spec
from nicelevel.core.specs.retarget import with_target

from .changes import announce
from .database import database
from .models import Destination, OwnTarget, Source


def own_targets_of(job_id: int) -> dict[tuple[int, int], float]:
    """Own targets of a job by source and destination."""
    query = OwnTarget.select(OwnTarget, Source.id).join(Source).where(Source.job == job_id)
    return {(row.source_id, row.destination_id): row.target for row in query}


def own_target_of(source: Source, destination: Destination) -> float | None:
    """The own target of a source, or of the leader of its set; None where it has the spec's."""
    row = OwnTarget.get_or_none(
        OwnTarget.source == (source.leader_id or source.id), OwnTarget.destination == destination.id
    )
    return row.target if row else None


def save_own_target(source: Source, destination: Destination, spec: Spec, target: float | None) -> None:
    """Give a source its own target, or the spec's again (None). Raises SpecError where it makes no sense."""
    with database.atomic():
        OwnTarget.delete().where(OwnTarget.source == source.id, OwnTarget.destination == destination.id).execute()
        if target is not None:
            with_target(spec, target)
            OwnTarget.create(source=source.id, destination=destination.id, target=target)
        announce(source.job_id, source.id)
