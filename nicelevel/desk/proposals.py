"""Sets that names propose."""

from collections.abc import Mapping, Sequence

from nicelevel.core.files.names import stem_of
from nicelevel.core.plan.sets import Candidate, propose_sets
from nicelevel.store.audio import AudioFolder
from nicelevel.store.models import Source
from nicelevel.store.readings import load_figures
from nicelevel.store.sets import Proposal

from .versions import Standing, standings_of


def proposals(
    sources: Sequence[Source],
    audio: AudioFolder,
    also_answered: bool = False,
    standings: Mapping[int, Standing] | None = None,
) -> list[Proposal]:
    """Sets that the measured sources of a job seem to be and that nobody has decided on; of versions that count.

    standings: of these sources, where they are known already.
    """
    standings = standings_of(sources, audio) if standings is None else standings
    free = {
        each.id: each
        for each in sources
        if each.state == "measured" and each.leader_id is None and each.kind != "sum"
        if each.id not in standings or standings[each.id].counts
    }
    candidates = [
        Candidate(key, stem_of(each.file_name), load_figures(each.digest, audio).source) for key, each in free.items()
    ]
    found = []
    for proposed in propose_sets(candidates):
        leader, members = free[int(str(proposed.leader))], [free[int(str(key))] for key in proposed.members]
        kept = leader.proposal or {}
        same = set(kept.get("members", ())) >= {each.id for each in members}
        # What leads a set of its own belongs to nobody else's.
        if not any(each.set_kind for each in members) and (also_answered or not (same and kept.get("answer"))):
            found.append(Proposal(leader, tuple(members), kept if same else None))
    return found
