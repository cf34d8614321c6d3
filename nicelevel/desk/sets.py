"""Sets that somebody asks for."""

from collections.abc import Sequence

from nicelevel.core.plan.sets import loudest
from nicelevel.store.audio import AudioFolder
from nicelevel.store.models import Source
from nicelevel.store.readings import load_figures
from nicelevel.store.sets import link_set


def link_album(members: Sequence[Source], audio: AudioFolder) -> None:
    """One gain for measured sources: that of the loudest of them."""
    by_id = {each.id: each for each in members}
    leader = by_id[loudest({key: load_figures(each.digest, audio) for key, each in by_id.items()})]
    link_set(leader, members, "album")
