"""What a board asks: whether what is named like stems is levelled as one, whether files of one channel are sides of
one source, and whether a newer version is to count.
"""

from dataclasses import dataclass

from flask import url_for

from nicelevel.core.words import listed
from nicelevel.desk.roll import Roll
from nicelevel.desk.sides import AskedSides
from nicelevel.desk.versions import Standing
from nicelevel.store.models import Source
from nicelevel.store.sets import Proposal


@dataclass(frozen=True)
class Answer:
    """What a button says, and what it sends where."""

    words: str
    address: str
    members: tuple[int, ...] = ()
    key: str = ""


@dataclass(frozen=True)
class Question:
    """held: ids of sources that are not rendered before it is answered."""

    sentence: str
    answers: tuple[Answer, ...]
    held: frozenset[int] = frozenset()


def questions_of(roll: Roll) -> tuple[Question, ...]:
    """All that is to be decided about the sources of one job."""
    sets = [_of_set(each) for each in roll.proposed]
    sides = [_of_sides(each, is_first=not at) for at, each in enumerate(roll.asked)]
    newer = [_of_newer(each, roll.standings[each.id]) for each in roll.newer]
    return (*sets, *sides, *newer)


def _of_set(proposal: Proposal) -> Question:
    leader, members = proposal.leader, proposal.members
    names = listed([each.title for each in members])
    apart = Answer("Each for itself", url_for("sources.stand_alone", source_id=leader.id))
    held = frozenset(each.id for each in proposal.sources)
    if proposal.found is None:
        sentence = f"{names}: stems of {leader.title}? Their sum is being held against it."
        return Question(sentence, (apart,), held)
    ids = tuple(each.id for each in members)
    together = Answer("One gain for all", url_for("sources.link", source_id=leader.id), ids)
    sentence = f"{names}: named like stems of {leader.title}. {proposal.found['sentence']}"
    return Question(sentence, (together, apart), held)


def _of_sides(asked: AskedSides, is_first: bool) -> Question:
    first = asked.sources[0]
    names = listed([each.title for each in asked.sources])
    ids, held = tuple(each.id for each in asked.sources), frozenset(each.id for each in asked.sources)
    apart = Answer("Leave them apart", url_for("sources.leave_apart", source_id=first.id))
    what = "two sides of one" if asked.layout == "stereo" else f"the channels of one in {asked.layout}"
    start = f"{names}: {what}? They have one length, to the sample."
    if asked.found is None:
        return Question(f"{start} They are being listened to.", (apart,), held)
    words = "One stereo source" if asked.layout == "stereo" else f"One source in {asked.layout}"
    together = Answer(words, url_for("sources.join", job_id=first.job_id), ids, "I" if is_first else "")
    return Question(f"{start} {asked.found['sentence']}", (together, apart), held)


def _of_newer(source: Source, standing: Standing) -> Question:
    chosen = listed(standing.instead)
    return Question(
        f"{source.title} came after {chosen} was chosen.",
        (
            Answer("Count the new one", url_for("sources.count_version", source_id=source.id)),
            Answer(f"Stay with {chosen}", url_for("sources.leave_aside", source_id=source.id)),
        ),
    )
