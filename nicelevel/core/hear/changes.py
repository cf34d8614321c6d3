"""What became of a title from one version to the next, told from their curves alone."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ..measure.gating import HOPS_PER_SECOND
from ..units import energy_from_lufs
from ..values import Place, Reading

BLOCK_S = 0.5
BLOCK_HOPS = round(BLOCK_S * HOPS_PER_SECOND)

DIFFERENT_DB = 0.4
"""A block whose energy moved otherwise than the whole by more than this is another one (found by trying)."""

QUIETEST_LUFS = -60.0
"""What is quieter in both is not compared: it is noise."""

SAME_LENGTH_S = 0.02


@dataclass(frozen=True)
class Changes:
    """From an older to a newer version. gain_db: of what is otherwise the same; places: in the newer one's time.

    inserted_s: where time was put in (longer_s over 0) or taken out, when all before and after it is the same.
    """

    louder_lu: float
    gain_db: float
    longer_s: float
    true_peak_db: float
    places: tuple[Place, ...]
    inserted_s: float | None


def changes_between(older: Reading, newer: Reading) -> Changes:
    """Compare two readings with their curves."""
    longer_s = newer.source.duration_s - older.source.duration_s
    gain_db, different = _compared(older.curves.energies, newer.curves.energies)
    inserted_s = None
    if abs(longer_s) <= SAME_LENGTH_S:
        places = _places(different)
    else:
        # Once counted from the start, once from the end: what one of them finds the same is the same.
        from_end_db, of_end = _compared(older.curves.energies[::-1], newer.curves.energies[::-1])
        head, tail = _same_at_start(different), _same_at_start(of_end)
        gain_db = gain_db if head >= tail else from_end_db
        blocks = min(len(different), len(of_end))
        end_s = newer.source.duration_s
        if head + tail >= blocks - 1:
            inserted_s, places = head * BLOCK_S, ()
        else:
            places = ((head * BLOCK_S, max(head * BLOCK_S, end_s - tail * BLOCK_S)),)
    return Changes(
        newer.integrated_lufs - older.integrated_lufs,
        gain_db,
        longer_s,
        newer.true_peak_dbtp - older.true_peak_dbtp,
        places,
        inserted_s,
    )


def _compared(older: NDArray[np.float64], newer: NDArray[np.float64]) -> tuple[float, NDArray[np.bool_]]:
    """The gain that most blocks moved by, and which ones moved otherwise. energies: of every 10 ms."""
    one, other = _blocks(older), _blocks(newer)
    count = min(len(one), len(other))
    one, other = one[:count], other[:count]
    floor = energy_from_lufs(QUIETEST_LUFS)
    audible = np.maximum(one, other) > floor
    moved_db = 10.0 * np.log10(np.maximum(other, floor) / np.maximum(one, floor))
    gain_db = float(np.median(moved_db[audible])) if audible.any() else 0.0
    return gain_db, audible & (np.abs(moved_db - gain_db) > DIFFERENT_DB)


def _blocks(energies: NDArray[np.float64]) -> NDArray[np.float64]:
    """Mean energy of every whole block."""
    means: NDArray[np.float64] = (
        energies[: len(energies) // BLOCK_HOPS * BLOCK_HOPS].reshape(-1, BLOCK_HOPS).mean(axis=1)
    )
    return means


def _same_at_start(different: NDArray[np.bool_]) -> int:
    """How many blocks are the same before the first that is not."""
    return int(different.argmax()) if different.any() else len(different)


def _places(different: NDArray[np.bool_]) -> tuple[Place, ...]:
    """Runs of blocks that differ; those with one block between them are one."""
    at = np.flatnonzero(different)
    if len(at) == 0:
        return ()
    breaks = np.flatnonzero(np.diff(at) > 2)
    starts, ends = at[np.append(0, breaks + 1)], at[np.append(breaks, len(at) - 1)] + 1
    return tuple(zip((starts * BLOCK_S).tolist(), (ends * BLOCK_S).tolist(), strict=True))
