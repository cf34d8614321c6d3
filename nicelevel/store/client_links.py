"""Links that clients are given, and what they say of the files behind them."""

from collections.abc import Sequence
from datetime import UTC, datetime
from typing import Any

from nicelevel.core.words import counted

from .changes import announce_handover
from .database import database
from .door_models import ClientAnswer, ClientLink
from .journal import acting, enter, who_acts
from .models import Job


def add_link(
    job_id: int, client: str, files: list[dict[str, Any]], may_fetch: bool, expires_at: datetime, nonce: str
) -> ClientLink:
    """files: of each `deliverable`, `sha256`, `path`, `title` and `destination`, as they are now."""
    with database.atomic():
        link: ClientLink = ClientLink.create(
            job=job_id,
            nonce=nonce,
            client=client,
            files=files,
            may_fetch=may_fetch,
            expires_at=expires_at,
            made_by=who_acts(),
        )
        enter(
            f"made a link for {client}: {counted(len(files), 'file')}, until {expires_at.astimezone():%-d %b %Y}",
            job_id,
        )
        announce_handover(job_id)
        return link


def find_link(link_id: int) -> ClientLink | None:
    found: ClientLink | None = ClientLink.select(ClientLink, Job).join(Job).where(ClientLink.id == link_id).first()
    return found


def links_of(job_id: int) -> Sequence[ClientLink]:
    """The latest first."""
    return list(ClientLink.select().where(ClientLink.job == job_id).order_by(ClientLink.id.desc()))


def withdraw_link(link: ClientLink) -> None:
    """What is behind it is shown no more; what was said of it stays."""
    with database.atomic():
        now = datetime.now(UTC)
        still = ClientLink.update(withdrawn_at=now).where(ClientLink.id == link.id, ClientLink.withdrawn_at.is_null())
        if still.execute():
            enter(f"withdrew the link for {link.client}", link.job_id)
            announce_handover(link.job_id)


def see_link(link: ClientLink) -> None:
    """Keep that it was opened."""
    first = link.seen_at is None
    ClientLink.update(seen_at=datetime.now(UTC)).where(ClientLink.id == link.id).execute()
    if first:
        with acting(client_name(link)):
            enter("opened the link", link.job_id)
        announce_handover(link.job_id)


def add_answer(link: ClientLink, file: dict[str, Any], verdict: str, note: str, from_s: float | None) -> ClientAnswer:
    """What is said of a file; the latest counts."""
    with database.atomic(), acting(client_name(link)):
        said: ClientAnswer = ClientAnswer.create(
            link=link, sha256=file["sha256"], verdict=verdict, note=note, from_s=from_s
        )
        words = (
            f"accepted {file['path']}" if verdict == "accepted" else f"asked for a change of {file['path']}: {note}"
        )
        enter(words, link.job_id)
        announce_handover(link.job_id)
        return said


def answers_of(link: ClientLink) -> dict[str, list[ClientAnswer]]:
    """By the SHA-256 of a file, the latest last."""
    found: dict[str, list[ClientAnswer]] = {}
    for each in ClientAnswer.select().where(ClientAnswer.link == link).order_by(ClientAnswer.id):
        found.setdefault(each.sha256, []).append(each)
    return found


def client_name(link: ClientLink) -> str:
    return f"{link.client} (client)"
