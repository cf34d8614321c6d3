"""The places of a programme that are worth hearing, and the joins from one programme to the next."""

from collections.abc import Sequence
from dataclasses import dataclass
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

from ..measure.gating import ABSOLUTE_GATE_LUFS, HOP_S, MOMENTARY_HOPS, SHORT_TERM_HOPS, window_energies
from ..measure.loudness_range import RELATIVE_GATE_LU
from ..units import energy_from_db, energy_from_lufs, lufs_from_energy
from ..values import Note, Place

LIMITED_STOPS, LEAST_APART_S = 5, 4.0
"""So many of the deepest places of a limiter, none closer to another than that."""

JOIN_S = 3.0
"""So long is the end of a programme heard, and then the beginning of the next."""


@dataclass(frozen=True)
class Stop:
    """A place in seconds and why it is one: limited (so many dB), loudest, quietest (LUFS), or the code of a note."""

    at_s: float
    end_s: float
    kind: str
    amount: float | None = None
    sentence: str = ""


@dataclass(frozen=True)
class Join:
    """From the end of one programme, by its number, into the start of the next: what is heard of each, in seconds."""

    number: int
    from_s: Place
    into_s: Place


def stops_of(
    energies: NDArray[np.float64], notes: Sequence[Note], reductions_db: NDArray[np.float64] | None = None
) -> tuple[Stop, ...]:
    """The stops of a programme in the order of time. energies, reductions_db: of every 10 ms."""
    stops = [*_limited(reductions_db), *_extremes(energies)]
    for note in notes:
        stops += [Stop(start_s, end_s, note.code, sentence=note.sentence) for start_s, end_s in note.places]
    return tuple(sorted(stops, key=lambda each: each.at_s))


def _limited(reductions_db: NDArray[np.float64] | None) -> list[Stop]:
    """Where the limiter works deepest."""
    if reductions_db is None:
        return []
    left, found = reductions_db.copy(), []
    for _ in range(LIMITED_STOPS):
        deepest = int(left.argmax())
        if left[deepest] < 0.1:
            break
        at_s = deepest * HOP_S
        found.append(Stop(at_s, at_s + HOP_S, "limited", float(left[deepest])))
        near = round(LEAST_APART_S / HOP_S)
        left[max(0, deepest - near) : deepest + near] = 0.0
    return found


def _extremes(energies: NDArray[np.float64]) -> list[Stop]:
    """The loudest three seconds, and the quietest without a gap in them, for silence is not quiet music."""
    windows = window_energies(energies, SHORT_TERM_HOPS)
    audible = windows[windows > energy_from_lufs(ABSOLUTE_GATE_LUFS)]
    if len(audible) == 0:
        return []
    gate = max(energy_from_lufs(ABSOLUTE_GATE_LUFS), audible.mean() * energy_from_db(RELATIVE_GATE_LU))
    gaps = np.append(0, np.cumsum(window_energies(energies, MOMENTARY_HOPS) < gate))
    counted = gaps[SHORT_TERM_HOPS - MOMENTARY_HOPS + 1 :] == gaps[: len(windows)]
    found = (int(windows.argmax()), "loudest"), (int(np.where(counted, windows, np.inf).argmin()), "quietest")
    return [
        Stop(at * HOP_S, (at + SHORT_TERM_HOPS) * HOP_S, kind, lufs_from_energy(float(windows[at])))
        for at, kind in found
    ]


def joins_of(durations_s: Sequence[float]) -> tuple[Join, ...]:
    """Every join of some programmes that are played after one another."""
    return tuple(
        Join(number, (max(0.0, one - JOIN_S), one), (0.0, min(JOIN_S, next_one)))
        for number, (one, next_one) in enumerate(pairwise(durations_s))
    )
