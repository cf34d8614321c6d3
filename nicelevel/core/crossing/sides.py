"""Files of one channel whose names say that they are sides of one recording, and what their samples say of that."""

import re
from collections import defaultdict
from collections.abc import Hashable, Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from ..channels import layout_of_name, layout_of_positions
from ..files import take_in_beside
from ..files.beside import alike
from ..units import db_from_energy
from ..values import Source
from ..words import change, figure
from .in_common import InCommon, listen_in_common

# The words by which files are told apart, in the ways they are usual (common practice).
_PLACES = {
    "L": ("l", "left"),
    "R": ("r", "right"),
    "C": ("c", "center", "centre"),
    "LFE": ("lfe", "sub"),
    "Ls": ("ls", "lss"),
    "Rs": ("rs", "rss"),
    "Lb": ("lb", "lsr", "lrs"),
    "Rb": ("rb", "rsr", "rrs"),
}
_PLACE_OF = {word: place for place, words in _PLACES.items() for word in words}
_NUMBERED = (("a1", "a2"), ("1", "2"), ("01", "02"))
"""Two of a kind, and only where there is no third: what is numbered further is a series, not a pair."""

_WORD = re.compile(r"[^\W_]+")
_EDGES = " _-.,()[]"
SAME_LEVEL_DB, EQUAL_DB = 0.01, 0.05
SAME_CORRELATION, OPPOSED_CORRELATION = 0.99999, -0.9


@dataclass(frozen=True)
class Mono:
    """A source that may be a side: its name without extension, and what must be equal."""

    key: Hashable
    name: str
    source: Source


@dataclass(frozen=True)
class Sides:
    """keys: in the order of the layout's channels; name: what is left of their names without the sides."""

    name: str
    layout: str
    keys: tuple[Hashable, ...]


def propose_sides(candidates: Sequence[Mono]) -> tuple[Sides, ...]:
    """Sources of one channel and one length that differ in name by the word of a place alone, all places of a layout.

    What fits two layouts, or has two files for one place, is not proposed.
    """
    by_rest: dict[Hashable, list[tuple[str, Mono]]] = defaultdict(list)
    numbered: dict[Hashable, list[tuple[str, Mono]]] = defaultdict(list)
    for each in candidates:
        if each.source.channels == 1:
            for rest, word in _split(each.name):
                if word in _PLACE_OF:
                    by_rest[rest, alike(each.source)].append((_PLACE_OF[word], each))
                elif rest[1] == "" and re.fullmatch(r"a?\d+", word):
                    numbered[rest, alike(each.source)].append((word, each))
    found = [*_placed(by_rest), *_paired(numbered)]
    return _without_shared(found)


def _split(name: str) -> Iterator[tuple[tuple[str, str], str]]:
    """A name without its first or its last word, in two parts, and that word."""
    words = list(_WORD.finditer(name))
    for match in dict.fromkeys((words[0], words[-1])) if words else ():
        yield (name[: match.start()].lower(), name[match.end() :].lower()), match.group().lower()


def _placed(groups: dict[Hashable, list[tuple[str, Mono]]]) -> Iterator[Sides]:
    for members in groups.values():
        places = [place for place, _ in members]
        layout = layout_of_positions(places).name if len(set(places)) == len(places) > 1 else "unknown"
        if layout != "unknown":
            by_place = dict(members)
            ordered = [by_place[str(place)] for place in layout_of_name(layout).positions]
            yield _sides(layout, ordered)


def _paired(groups: dict[Hashable, list[tuple[str, Mono]]]) -> Iterator[Sides]:
    for members in groups.values():
        by_word = dict(members)
        if len(members) == 2 and tuple(sorted(by_word)) in _NUMBERED:
            yield _sides("stereo", [by_word[word] for word in sorted(by_word)])


def _sides(layout: str, ordered: Sequence[Mono]) -> Sides:
    return Sides(common_name([each.name for each in ordered]), layout, tuple(each.key for each in ordered))


def common_name(names: Sequence[str]) -> str:
    """What names have in common at their start and their end; all of them where that is nothing."""
    first, rest = names[0], names[1:]
    head = next((at for at, sign in enumerate(first) if any(each[at : at + 1] != sign for each in rest)), len(first))
    ends = [each[head:][::-1] for each in names]
    tail = next((at for at, sign in enumerate(ends[0]) if any(e[at : at + 1] != sign for e in ends[1:])), 0)
    # A word is kept whole or not at all: of Left and Right the t is not what they share.
    before = re.sub(r"[^\W_]+$", "", first[:head]) if head < len(first) else first
    after = re.sub(r"^[^\W_]+", "", first[len(first) - tail :] if tail else "")
    kept = f"{before.rstrip(_EDGES)} {after.lstrip(_EDGES)}".strip(_EDGES)
    return kept or " ".join(names)


def _without_shared(found: Sequence[Sides]) -> tuple[Sides, ...]:
    """The largest first; what a larger one has taken is in no other."""
    kept: list[Sides] = []
    taken: set[Hashable] = set()
    for each in sorted(found, key=lambda sides: -len(sides.keys)):
        if taken.isdisjoint(each.keys):
            kept.append(each)
            taken |= set(each.keys)
    return tuple(kept)


@dataclass(frozen=True)
class SidesFound:
    """Of the first two files: correlation of their samples, None where one is silent; how much louder the first is;
    whether both hold the same."""

    correlation: float | None
    louder_db: float
    are_same: bool


def listen_to_sides(layout: str, paths: Sequence[Path]) -> SidesFound:
    """What the first two of some files say of being sides of one. Raises as `take_in_beside` and its blocks."""
    with take_in_beside(layout, paths) as audio:
        return _found(listen_in_common(audio))


def _found(common: InCommon) -> SidesFound:
    products = common.over_time.sum(axis=0)
    first, second = float(products[0, 0]), float(products[1, 1])
    if not first or not second:
        return SidesFound(None, db_from_energy(first) - db_from_energy(second) if first or second else 0.0, False)
    correlation = float(products[0, 1] / np.sqrt(first * second))
    louder_db = db_from_energy(first) - db_from_energy(second)
    are_same = correlation >= SAME_CORRELATION and abs(louder_db) <= SAME_LEVEL_DB
    return SidesFound(correlation, louder_db, are_same)


def sentence_of_sides(found: SidesFound, names: Sequence[str]) -> str:
    """What a person should know before the files become one source."""
    if found.correlation is None:
        silent = names[1] if found.louder_db > 0 else names[0]
        return f"{silent} is silent." if found.louder_db else "Both are silent."
    if found.are_same:
        return "Both hold the same: one of them is enough."
    whose = "Their" if len(names) == 2 else f"{names[0]} and {names[1]}: their"
    said = f"{whose} correlation is {change(found.correlation, 2)}"
    if found.correlation <= OPPOSED_CORRELATION:
        return f"{said}: one of them seems turned over."
    if abs(found.louder_db) < EQUAL_DB:
        return f"{said}, and they are equally loud."
    louder, softer = names[:2] if found.louder_db > 0 else (names[1], names[0])
    return f"{said}, and {louder} is {figure(abs(found.louder_db))} dB louder than {softer}."
