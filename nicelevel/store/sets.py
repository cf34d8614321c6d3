"""Sets of sources that share a gain: made, ended, and proposed by names until their sum or a person has decided."""

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from .changes import announce
from .database import database
from .models import Source


@dataclass(frozen=True)
class Proposal:
    """Sources whose names say that they are parts of one; kept with the leader once its sum was looked at.

    found: what the sum said, with `adds_up` and `sentence`; None where it is still to be looked at.
    """

    leader: Source
    members: tuple[Source, ...]
    found: dict[str, Any] | None

    @property
    def sources(self) -> tuple[Source, ...]:
        return self.leader, *self.members


def link_set(leader: Source, members: Sequence[Source], kind: str) -> None:
    """Let sources take the gain of one; those that are already in a set go into this one.

    kind: "sum" where they are parts of what the leader is and take its curve too, "album" where they are tracks.
    """
    with database.atomic():
        ids = [each.id for each in members if each.id != leader.id and each.job_id == leader.job_id]
        Source.update(leader=None, sum_check=None, set_kind=kind).where(Source.id == leader.id).execute()
        fresh = {"leader": leader.id, "sum_check": None, "set_kind": None}
        Source.update(**fresh).where(Source.id.in_(ids) | Source.leader.in_(ids)).execute()
        _announce_set(leader, ids)


def unlink_set(source: Source) -> None:
    """End the set that a source leads or belongs to; it is not proposed again."""
    with database.atomic():
        leader_id = source.leader_id or source.id
        ids = [each.id for each in Source.select(Source.id).where(Source.leader == leader_id)]
        Source.update(leader=None).where(Source.leader == leader_id).execute()
        Source.update(sum_check=None, set_kind=None).where(Source.id == leader_id).execute()
        _keep_answer(leader_id, ids, {"answer": "alone"})
        _announce_set(source, [leader_id, *ids])


def members_of(leader_id: int) -> list[Source]:
    """The members of a set, in their order."""
    return list(Source.select().where(Source.leader == leader_id).order_by(Source.id))


def save_sum_check(leader: Source, found: dict[str, Any]) -> None:
    """Keep whether the members of a set add up to their leader."""
    with database.atomic():
        Source.update(sum_check=found).where(Source.id == leader.id).execute()
        announce(leader.job_id, leader.id)


def keep_proposal(proposal: Proposal, found: dict[str, Any]) -> None:
    """Keep what the sum said of a proposed set. Where it confirms the set, the set is made."""
    leader, members = proposal.leader, proposal.members
    with database.atomic():
        if found["adds_up"]:
            already = members_of(leader.id)
            link_set(leader, [*already, *members], "sum")
            save_sum_check(leader, found)
        kept = found | {"answer": "made" if found["adds_up"] else None}
        _keep_answer(leader.id, [each.id for each in members], kept)
        _announce_set(leader, [each.id for each in members])


def keep_alone(proposal: Proposal) -> None:
    """Keep that sources that a set was proposed for stand alone, as somebody said."""
    with database.atomic():
        ids = [each.id for each in proposal.members]
        _keep_answer(proposal.leader.id, ids, (proposal.found or {}) | {"answer": "alone"})
        _announce_set(proposal.leader, ids)


def _keep_answer(leader_id: int, member_ids: Sequence[int], kept: dict[str, Any]) -> None:
    Source.update(proposal=kept | {"members": sorted(member_ids)}).where(Source.id == leader_id).execute()


def _announce_set(source: Source, ids: Sequence[int]) -> None:
    for each in {source.id, *ids}:
        announce(source.job_id, each)
