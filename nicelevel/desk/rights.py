"""What each role may do."""

from collections.abc import Iterable
from typing import Literal

Right = Literal["look", "fetch", "change", "publish", "operate"]

RIGHTS_OF: dict[str, tuple[str, frozenset[Right]]] = {
    "listener": ("hears, reads, and downloads proof", frozenset({"look"})),
    "engineer": ("makes and hands over all that belongs to jobs", frozenset({"look", "fetch", "change", "publish"})),
    "operator": ("draws lines, keeps people, settings and the trash", frozenset({"look", "publish", "operate"})),
}
"""Of each role what it is for, and its rights. Somebody may have several."""

REFUSALS: dict[Right, str] = {
    "look": "Your account has no role, so there is nothing that it may see. An operator can give it one.",
    "fetch": "Only an engineer may download files and packages; proof sheets are free to be read.",
    "change": "Only an engineer may change this. Nothing was changed.",
    "publish": "Only an engineer or an operator may do that. Nothing was changed.",
    "operate": "Only an operator may do that. Nothing was changed.",
}

ALL_RIGHTS = frozenset(REFUSALS)


def rights_of(roles: Iterable[str]) -> frozenset[Right]:
    """All that some roles may do together; a role that is not known may nothing."""
    return frozenset().union(*(RIGHTS_OF[each][1] for each in roles if each in RIGHTS_OF))
