"""Whether stems add up to their mix: looked at where somebody linked them, and where names alone propose a set. And
what files of one channel have in common whose names say that they are sides of one.
"""

from collections.abc import Sequence
from contextlib import suppress
from functools import partial
from typing import Any

import procrastinate

from nicelevel.config import Config
from nicelevel.core.plan.sum_check import check_sum
from nicelevel.desk.proposals import proposals
from nicelevel.desk.sides import AskedSides, asked_sides, hear_sides
from nicelevel.report.sum_words import sum_json
from nicelevel.store.audio import AudioFolder
from nicelevel.store.database import database, persistently
from nicelevel.store.models import Source
from nicelevel.store.sets import Proposal, keep_alone, keep_proposal, members_of, save_sum_check
from nicelevel.store.sides import keep_sides
from nicelevel.store.sources import UNMEASURED, find_source, sources_of
from nicelevel.store.undo import changing

from .trying import Call, ending, task

SET_PRIORITY = 6
"""Before what is prepared: whatever is made of a stem alone is made for nothing where it belongs to a set."""


def _unknown(sentence: str) -> dict[str, Any]:
    return {"adds_up": None, "sentence": sentence}


def _looked_at(leader: Source, members: Sequence[Source], audio: AudioFolder) -> dict[str, Any]:
    """What the sum says, as it is kept. Raises the errors of files that cannot be used."""
    mix, *stems = (audio.existing_path(each.digest) for each in (leader, *members))
    titles = [each.title for each in members]
    return sum_json(check_sum(mix, stems, titles=[leader.title, *titles]), titles)


def _give_up_sum_check(config: Config, code: str, sentence: str, leader_id: int) -> None:
    if leader := find_source(leader_id):
        save_sum_check(leader, _unknown(sentence))


@task(_give_up_sum_check)
def check_sum_of_set(call: Call, leader_id: int) -> None:
    """Hold the members of a set against their leader and keep what was found."""
    leader, members = find_source(leader_id), members_of(leader_id)
    if leader is None or not members:
        return

    def fail(code: str, sentence: str) -> bool:
        save_sum_check(leader, _unknown(sentence))
        return True

    with ending(call, fail, lambda: True):
        found = _looked_at(leader, members, AudioFolder(call.config.audio_folder))
        persistently(partial(save_sum_check, leader, found))


def _give_up_looking(config: Config, code: str, sentence: str, job_id: int) -> None:
    for each in _open(job_id, AudioFolder(config.audio_folder)):
        keep_proposal(each, _unknown(sentence))
    for asked in _unheard(job_id, AudioFolder(config.audio_folder)):
        _keep_heard(asked, {"sentence": sentence})


@task(_give_up_looking)
def look_at_sets(call: Call, job_id: int) -> None:
    """Hold every set that names propose against its sum, once all of the job is measured.

    Where it adds up it is made; where it does not, the board asks. Sides of one are heard, and always asked about.
    """
    audio = AudioFolder(call.config.audio_folder)
    if any(each.state in UNMEASURED for each in sources_of(job_id)):
        return  # whoever measures the last one has it looked at again
    for proposal in _open(job_id, audio):

        def fail(code: str, sentence: str, proposal: Proposal = proposal) -> bool:
            keep_proposal(proposal, _unknown(sentence))
            return True

        with ending(call, fail, lambda: True):
            members = [*members_of(proposal.leader.id), *proposal.members]
            found = _looked_at(proposal.leader, members, audio)
            persistently(partial(_keep, proposal, found))
    for asked in _unheard(job_id, audio):

        def fail_sides(code: str, sentence: str, asked: AskedSides = asked) -> bool:
            _keep_heard(asked, {"sentence": sentence})
            return True

        with ending(call, fail_sides, lambda: True):
            persistently(partial(_keep_heard, asked, hear_sides(asked, audio)))


def _unheard(job_id: int, audio: AudioFolder) -> list[AskedSides]:
    return [each for each in asked_sides(sources_of(job_id), audio) if each.found is None]


def _keep_heard(asked: AskedSides, found: dict[str, Any]) -> None:
    first, *others = asked.sources
    keep_sides(first, others, found)


def _keep(proposal: Proposal, found: dict[str, Any]) -> None:
    """A set that is made is a change that can be undone: then its sources stand alone and are not asked about."""
    if not found["adds_up"]:
        keep_proposal(proposal, found)
        return
    with database.atomic():
        keep_alone(proposal)
        with changing(f"made one set of {proposal.leader.title} and its stems", proposal.leader.job_id):
            keep_proposal(proposal, found)


def _open(job_id: int, audio: AudioFolder) -> list[Proposal]:
    """What was not looked at yet."""
    return [each for each in proposals(sources_of(job_id), audio) if each.found is None]


def defer_look_at_sets(job_id: int) -> None:
    """Have the sets of a job looked at; once is enough for all that was measured meanwhile."""
    with suppress(procrastinate.exceptions.AlreadyEnqueued), database.atomic():
        looking = look_at_sets.configure(
            queueing_lock=f"sets {job_id}",
            lock=f"sets {job_id}",
            priority=SET_PRIORITY,
            connection=database.connection(),
        )
        looking.defer(job_id=job_id)
