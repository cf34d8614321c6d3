"""What is heard of an arrival: as it came, and what went out."""

from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any, Literal, get_args

from nicelevel.core.channels import layout_of_name
from nicelevel.core.errors import NotFoundError
from nicelevel.core.files.between import kept_open
from nicelevel.core.hear import HeardLevel, heard_lufs, matched_gains_db, real_gains_db
from nicelevel.core.hear.programmes import FileProgramme
from nicelevel.core.signals import Seekable
from nicelevel.store.models import Arrival

from .hearing import GONE, Audible, from_anywhere
from .hearing_sheet import Heard, HearingSheet, playable_rate
from .lines import kept_of

Role = Literal["came", "out"]
ROLES: tuple[Role, ...] = get_args(Role)
FIGURES = {"came": "came", "out": "made"}
NAMES = {"came": ("As it came", "source"), "out": ("What went out", "made")}


def arrival_sheet(arrival: Arrival, folder: Path) -> HearingSheet | None:
    """What a page needs to play it; None where nothing is kept that could be heard. folder: of all arrivals."""
    takes = [each for role in ROLES if (each := _audible(arrival, role, folder)) is not None]
    if not takes:
        return None
    levels = [each.level for each in takes]
    heard = tuple(map(Heard, takes, matched_gains_db(levels), real_gains_db(levels)))
    longest_s = max(each.duration_s for each in takes)
    return HearingSheet(arrival, None, playable_rate(takes[-1].rate_hz), longest_s, heard, ())


def _audible(arrival: Arrival, role: Role, folder: Path) -> Audible | None:
    told: dict[str, Any] | None = arrival.figures.get(FIGURES[role])
    if not told or told["lufs"] is None or kept_of(arrival, folder).path(arrival.files.get(role)) is None:
        return None
    (name, kind), layout = NAMES[role], told["layout"]
    known = None if layout == "unknown" else layout_of_name(layout)
    level = HeardLevel(heard_lufs(told["lufs"], known) if known else told["lufs"], told["dbtp"] or 0.0)
    return Audible(
        f"arrival-{role}",
        kind,  # type: ignore[arg-type]
        name,
        arrival.name,
        level,
        told["rate_hz"],
        told["length_s"],
        f"{arrival.id}-{arrival.finished_at}",
        is_here=True,
        address=f"/arrivals/{arrival.id}/hear/{role}",
    )


@contextmanager
def opened_arrival(arrival: Arrival, role: Role, folder: Path) -> Iterator[Seekable]:
    """One of both, open for hearing. Raises NotFoundError where it is not kept any more."""
    path = kept_of(arrival, folder).path(arrival.files.get(role))
    if path is None:
        raise NotFoundError(GONE)
    with kept_open(from_anywhere(path)) as file:
        yield FileProgramme(file)
