"""Whether programmes of one file add up to another of them: dialogue, music and effects to the full mix."""

import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from ..files import take_in
from ..files.blocks import Block
from ..plan.sum_check import BLOCK_S, STEP_S, SumCheck, check_blocks
from ..runs import runs
from .programme import Programme

# Words by which programmes are called (common practice).
_MIX_WORDS = frozenset({"mix", "full", "main", "programme", "program", "master", "complete"})
_PART_WORDS = frozenset(
    {"dialogue", "dialog", "dx", "speech", "voice", "voices", "commentary", "narration", "narrator"}
    | {"music", "mx", "effects", "fx", "sfx", "me", "rest", "atmo", "ambience", "stem"}
)
ONE_INTO_TWO = 0.5**0.5
"""One channel goes into both sides of a mix without a centre 3 dB down (common practice)."""

OFF_DB, JOINED_STEPS = -40.0, 10
"""What is left over is named where it lies over this against the mix; places closer than a second are one."""


@dataclass(frozen=True)
class Addition:
    """The mix, and the parts that may make it, by their labels and by what they hold."""

    mix: Programme
    parts: tuple[Programme, ...]


def addition_in(programmes: Sequence[Programme]) -> Addition | None:
    """Told from labels: one mix, and two parts at least that have a place in its layout."""
    parts = [each for each in programmes if _words(each) & _PART_WORDS]
    mixes = [each for each in programmes if each not in parts and _words(each) & _MIX_WORDS]
    if not mixes:
        return None
    mix = max(mixes, key=lambda each: len(each.channels))
    fitting = tuple(each for each in parts if _places(each, mix) is not None)
    return Addition(mix, fitting) if len(fitting) > 1 else None


def _words(programme: Programme) -> set[str]:
    joined = programme.label.lower().replace("m&e", "me").replace("m and e", "me")
    return set(re.findall(r"[^\W_]+", joined))


def _places(part: Programme, mix: Programme) -> NDArray[np.float64] | None:
    """Channels of the part × channels of the mix; None where it has no place there."""
    wanted, there = part.layout.positions, mix.layout.positions
    if set(wanted) <= set(there) and None not in wanted:
        return np.array([[float(mine == its) for its in there] for mine in wanted])
    if len(wanted) == 1 and there == ("L", "R"):
        return np.full((1, 2), ONE_INTO_TWO)
    return None


def check_addition(path: Path, addition: Addition) -> SumCheck:
    """Hold the sum of the parts against the mix. Raises as the file's blocks."""
    with take_in(path) as audio:
        blocks = audio.blocks(int(BLOCK_S * audio.shape.rate_hz))
        return check_blocks(audio.shape.rate_hz, len(addition.parts), _stacked(blocks, addition))


def _stacked(blocks: Iterator[Block], addition: Addition) -> Iterator[NDArray[np.float64]]:
    """The mix and each part where it has its place: programmes × frames × channels."""
    placed = []
    for each in addition.parts:
        matrix = _places(each, addition.mix)
        assert matrix is not None
        placed.append(([number - 1 for number in each.channels], matrix))
    own = [number - 1 for number in addition.mix.channels]
    for block in blocks:
        samples = block.astype(np.float64)
        yield np.stack([samples[:, own], *(samples[:, channels] @ matrix for channels, matrix in placed)])


def places_off(found: SumCheck) -> list[tuple[float, float]]:
    """Where what is left over lies over OFF_DB against the mix, in seconds."""
    off = np.array([level > OFF_DB for level in found.series_db], bool)
    places: list[tuple[float, float]] = []
    for first, last in runs(off):
        if places and first - round(places[-1][1] / STEP_S) < JOINED_STEPS:
            places[-1] = places[-1][0], last * STEP_S
        else:
            places.append((first * STEP_S, last * STEP_S))
    return places
