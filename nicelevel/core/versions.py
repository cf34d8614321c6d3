"""Versions of a title: which sources are the same mix, older or newer, told from their names and dates.

Two names are versions of one title where they differ only in words that count versions: "v2", "ver 2", "version 2",
"rev 2", "mix 2", "final", a date such as 2026-11-25 or 20261125; one of them at least must have such a word. The same
name twice is a correction of the first: what came later counts. And a file may be given as standing for another.
Common practice: no standard says how versions are named, so the choice is shown and can be changed.
"""

import re
from collections import defaultdict
from collections.abc import Hashable, Mapping, Sequence
from dataclasses import dataclass
from datetime import date, datetime
from functools import lru_cache
from typing import Any

_BREAK = r"(?:^|(?<=[\W_]))"
_NUMBER = re.compile(_BREAK + r"(?:version|ver|v|rev|mix)[\s._-]{0,2}(\d{1,3})(?![^\W_])", re.IGNORECASE)
_DATE = re.compile(r"(?<!\d)((?:19|20)\d\d)[-_.]?([01]\d)[-_.]?([0-3]\d)(?!\d)")
_FINAL = re.compile(_BREAK + r"final\d*(?![^\W_])", re.IGNORECASE)


@dataclass(frozen=True)
class Dated:
    """A source by its name without extension, when its file was last changed, and what must be equal (its layout).

    arrived_at: when it was taken in; replaces: the key of the source that it was given for.
    """

    key: Hashable
    name: str
    changed_at: datetime
    alike: Hashable = None
    arrived_at: datetime | None = None
    replaces: Hashable = None


@dataclass(frozen=True)
class NamedVersion:
    """What a name says: the title that is left, the number and the date in it where there are any."""

    title: str
    number: int | None
    day: date | None
    has_word: bool


@lru_cache(maxsize=30_000)
def read_name(name: str) -> NamedVersion:
    """Take the words that count versions out of a name. A name without any is number 1 of its title."""
    number, day = _NUMBER.search(name), _day(name)
    rest = _FINAL.sub(" ", _DATE.sub(" ", name) if day else name)
    rest = _NUMBER.sub(" ", rest)
    title = " ".join(re.findall(r"[^\W_]+", rest.lower()))
    has_word = bool(number or day or _FINAL.search(name))
    counted = int(number[1]) if number else None if has_word else 1
    return NamedVersion(title, counted, day, has_word)


def _day(name: str) -> date | None:
    found = _DATE.search(name)
    try:
        return date(*map(int, found.groups())) if found else None
    except ValueError:
        return None


def versions_of(sources: Sequence[Dated]) -> tuple[tuple[Any, ...], ...]:
    """Keys of sources that are versions of one title, each group with the newest first; what stands alone is in none.

    By number where every name has one, else by the date in the name where every name has one, else by the file's.
    Of one name twice what arrived later comes first, and what replaces another comes right before it.
    """
    here = {each.key: each for each in sources}
    replaced = {each.replaces for each in sources if each.replaces in here}
    heads = [each for each in sources if each.key not in replaced]
    titles: dict[Hashable, list[tuple[Dated, NamedVersion]]] = defaultdict(list)
    for each in heads:
        named = _named_as_first(each, here)
        if named.title:
            titles[named.title, each.alike].append((each, named))
    groups = []
    for group in titles.values():
        if any(named.has_word for _, named in group):
            groups.append(_newest_first(group))
        else:
            groups += _of_one_name(group)
    grouped = {each.key for group in groups for each in group}
    groups += [[each] for each in heads if each.key not in grouped]
    chained = (tuple(key for each in group for key in _with_replaced(each, here)) for group in groups)
    return tuple(group for group in chained if len(group) > 1)


def _named_as_first(source: Dated, here: Mapping[Hashable, Dated]) -> NamedVersion:
    """What its name says; where that counts no version, what the name says of the one that it replaces."""
    named, seen = read_name(source.name), {source.key}
    while source.replaces in here and source.replaces not in seen and not named.has_word:
        source = here[source.replaces]
        seen.add(source.key)
        named = read_name(source.name)
    return named


def _with_replaced(source: Dated, here: Mapping[Hashable, Dated]) -> list[Hashable]:
    """A source and what it replaces, link by link."""
    chain = [source.key]
    while source.replaces in here and source.replaces not in chain:
        source = here[source.replaces]
        chain.append(source.key)
    return chain


def _of_one_name(group: list[tuple[Dated, NamedVersion]]) -> list[list[Dated]]:
    """Those of the very same name, what arrived last first."""
    names: dict[str, list[Dated]] = defaultdict(list)
    for each, _ in group:
        names[each.name].append(each)
    return [sorted(same, key=_arrival, reverse=True) for same in names.values() if len(same) > 1]


def _arrival(source: Dated) -> datetime:
    return source.arrived_at or source.changed_at


def _newest_first(group: list[tuple[Dated, NamedVersion]]) -> list[Dated]:
    names = [named for _, named in group]
    same_names = len({each.name for each, _ in group}) < len(group)

    def rank(pair: tuple[Dated, NamedVersion]) -> tuple[int, int, datetime]:
        each, named = pair
        number = named.number or 0 if all(other.number is not None for other in names) else 0
        day = named.day.toordinal() if named.day and all(other.day for other in names) else 0
        return number, day, _arrival(each) if same_names else each.changed_at

    return [each for each, _ in sorted(group, key=rank, reverse=True)]
