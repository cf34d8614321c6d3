"""Packages that were sent, and what was answered."""

from datetime import UTC, datetime
from typing import Any

from .changes import announce_handover
from .database import database
from .models import Job, Sending

UNDER_WAY = ("queued", "sending", "checking")


def add_sending(job: Job, address: str) -> Sending:
    """A package that is to be sent."""
    sending = Sending.create(job=job.id, address=address)
    announce_handover(job.id)
    return sending


def find_sending(sending_id: int) -> Sending | None:
    return Sending.select(Sending, Job).join(Job).where(Sending.id == sending_id).first()


def sendings_of(job_id: int) -> list[Sending]:
    """What was sent of a job, the latest first."""
    return list(Sending.select().where(Sending.job == job_id).order_by(Sending.id.desc()))


def save_sending(sending: Sending, state: str, **columns: Any) -> bool:
    """The one place where the state of a sending is written; False where somebody has stopped it meanwhile."""
    if state not in UNDER_WAY:
        columns["finished_at"] = datetime.now(UTC)
    with database.atomic():
        query = Sending.update(state=state, **columns)
        changed = query.where(Sending.id == sending.id, Sending.state.in_(UNDER_WAY)).execute()
        announce_handover(sending.job_id)
    return bool(changed)


def latest_address() -> str | None:
    """Where was sent to last."""
    latest = Sending.select(Sending.address).order_by(Sending.id.desc()).first()
    return latest.address if latest else None
