"""Versions of a title: which sources are the same mix, older or newer, told from their names and dates.

Two names are versions of one title where they differ only in words that count versions: "v2", "ver 2", "version 2",
"rev 2", "mix 2", "final", a date such as 2026-11-25 or 20261125. One of them at least must have such a word. Common
practice: no standard says how versions are named, so the choice is shown and can be changed.
"""

import re
from collections import defaultdict
from collections.abc import Hashable, Sequence
from dataclasses import dataclass
from datetime import date, datetime

_BREAK = r"(?:^|(?<=[\W_]))"
_NUMBER = re.compile(_BREAK + r"(?:version|ver|v|rev|mix)[\s._-]{0,2}(\d{1,3})(?![^\W_])", re.IGNORECASE)
_DATE = re.compile(r"(?<!\d)((?:19|20)\d\d)[-_.]?([01]\d)[-_.]?([0-3]\d)(?!\d)")
_FINAL = re.compile(_BREAK + r"final\d*(?![^\W_])", re.IGNORECASE)


@dataclass(frozen=True)
class Dated:
    """A source by its name without extension, when its file was last changed, and what must be equal (its layout)."""

    key: Hashable
    name: str
    changed_at: datetime
    alike: Hashable = None


@dataclass(frozen=True)
class NamedVersion:
    """What a name says: the title that is left, the number and the date in it where there are any."""

    title: str
    number: int | None
    day: date | None
    has_word: bool


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


def versions_of(sources: Sequence[Dated]) -> tuple[tuple[Hashable, ...], ...]:
    """Groups of sources that are versions of one title, each with the newest first; what stands alone is in none.

    By number where every name has one, else by the date in the name where every name has one, else by the file's.
    """
    titles: dict[Hashable, list[tuple[Dated, NamedVersion]]] = defaultdict(list)
    for each in sources:
        named = read_name(each.name)
        if named.title:
            titles[named.title, each.alike].append((each, named))
    groups = [group for group in titles.values() if len(group) > 1 and any(named.has_word for _, named in group)]
    return tuple(tuple(each.key for each in _newest_first(group)) for group in groups)


def _newest_first(group: list[tuple[Dated, NamedVersion]]) -> list[Dated]:
    names = [named for _, named in group]

    def rank(pair: tuple[Dated, NamedVersion]) -> tuple[int, int, datetime]:
        each, named = pair
        number = named.number or 0 if all(other.number is not None for other in names) else 0
        day = named.day.toordinal() if named.day and all(other.day for other in names) else 0
        return number, day, each.changed_at

    return [each for each, _ in sorted(group, key=rank, reverse=True)]
