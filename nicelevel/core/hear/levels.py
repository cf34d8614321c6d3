"""At which gain each of several programmes is played, so that no comparison is won by loudness."""

from collections.abc import Sequence
from dataclasses import dataclass

from ..channels import Layout
from ..units import db_from_energy

BOTH_SIDES_LU = db_from_energy(2.0)
"""One channel that two loudspeakers play is twice the energy: 3.01 LU over its own reading (ITU-R BS.1770-5)."""

QUIETEST_LUFS = -70.0
"""The absolute gate: what is quieter has no loudness to be matched by."""


@dataclass(frozen=True)
class HeardLevel:
    """A programme as two loudspeakers play it: its integrated loudness there, and its true peak."""

    lufs: float
    true_peak_dbtp: float

    @property
    def is_silent(self) -> bool:
        return not self.lufs > QUIETEST_LUFS


def heard_lufs(integrated_lufs: float, layout: Layout) -> float:
    """The loudness that a programme has through two loudspeakers, from its reading.

    More than two channels are folded down to be heard: to be exact their fold-down is to be read instead.
    """
    return integrated_lufs + (BOTH_SIDES_LU if len(layout.positions) == 1 else 0.0)


def matched_gains_db(levels: Sequence[HeardLevel]) -> list[float]:
    """The gains that bring all to one loudness: that of the first, the source.

    All are lower where one that is raised to it would pass the source's own true peak, or full scale. What is silent
    stays as it is.
    """
    heard = [each for each in levels if not each.is_silent]
    if not heard:
        return [0.0] * len(levels)
    source = levels[0] if not levels[0].is_silent else heard[0]
    most_dbtp = min(0.0, source.true_peak_dbtp)
    level_lufs = min(source.lufs, *(each.lufs + most_dbtp - each.true_peak_dbtp for each in heard))
    return [0.0 if each.is_silent else level_lufs - each.lufs for each in levels]


def real_gains_db(levels: Sequence[HeardLevel]) -> list[float]:
    """One gain for all, so that their differences are heard: none is louder, or higher in peak, than the source."""
    source = levels[0]
    heard = [each for each in levels if not each.is_silent]
    most_dbtp = min(0.0, source.true_peak_dbtp)
    over_db = [each.true_peak_dbtp - most_dbtp for each in heard]
    over_db += [each.lufs - source.lufs for each in heard if not source.is_silent]
    return [-max(0.0, *over_db, 0.0)] * len(levels)
