"""Packages that were sent, and what was answered."""

from datetime import UTC, datetime
from typing import Any

from .changes import announce_handover
from .database import database
from .models import Job, Sending
from .tries import begin_try, save_in_try

UNDER_WAY = ("queued", "sending", "checking")


def add_sending(job: Job, address: str, contribution: dict[str, Any] | None = None) -> Sending:
    """A package that is to be sent, or a contribution."""
    sending = Sending.create(job=job.id, address=address, contribution=contribution)
    announce_handover(job.id)
    return sending


def find_sending(sending_id: int) -> Sending | None:
    found: Sending | None = Sending.select(Sending, Job).join(Job).where(Sending.id == sending_id).first()
    return found


def sendings_of(job_id: int) -> list[Sending]:
    """What was sent of a job, the latest first."""
    return list(Sending.select().where(Sending.job == job_id).order_by(Sending.id.desc()))


def begin_sending(sending: Sending) -> bool:
    """Begin a try at sending, or at asking for the answer; False where nobody wants it any more."""
    return begin_try(sending, UNDER_WAY)


def is_under_way(sending: Sending) -> bool:
    """Whether this try is still wanted, and still the newest."""
    query = Sending.select().where(Sending.id == sending.id, Sending.token == sending.token)
    return bool(query.where(Sending.state.in_(UNDER_WAY)).exists())


def save_sending(sending: Sending, state: str, **columns: Any) -> bool:
    """What a try says of its sending; False where it was stopped or has been begun anew meanwhile."""
    with database.atomic():
        saved = save_in_try(sending, UNDER_WAY, **_at_its_end(state), state=state, **columns)
        announce_handover(sending.job_id)
    return saved


def end_sending(sending: Sending, state: str, **columns: Any) -> bool:
    """End whatever try there is from outside: stopped by somebody, or failed with its worker."""
    with database.atomic():
        query = Sending.update(**_at_its_end(state), state=state, **columns)
        changed = query.where(Sending.id == sending.id, Sending.state.in_(UNDER_WAY)).execute()
        announce_handover(sending.job_id)
    return bool(changed)


def _at_its_end(state: str) -> dict[str, Any]:
    return {} if state in UNDER_WAY else {"finished_at": datetime.now(UTC)}


def latest_address() -> str | None:
    """Where a package was sent to last."""
    latest = Sending.select(Sending.address).where(Sending.contribution.is_null()).order_by(Sending.id.desc()).first()
    return latest.address if latest else None
