"""When something is expected: in the words of cron, by the clock on the wall.

Summer time: what is expected at an hour that the wall skips is not expected that day; where an hour comes twice, what
is expected in every hour is expected in both, what is expected at that hour once, in the first.
"""

from dataclasses import dataclass
from datetime import date, datetime, timedelta
from functools import lru_cache

from croniter import croniter

from ..errors import SpecError

MOST_A_DAY = 1_440


def refuse_schedule(words: str) -> None:
    """Raises SpecError where words are no five fields of cron; empty is none."""
    if words and (len(words.split()) != 5 or not croniter.is_valid(words)):
        raise SpecError(
            f"“{words}” are no words of cron: minute, hour, day, month, weekday; “25,55 * * * *” is at :25 and :55."
        )


@lru_cache(maxsize=1024)
def expected_on(words: str, day: date) -> tuple[float, ...]:
    """The times of a day that are expected, in seconds since 1970, in their order."""
    if not words:
        return ()
    first = datetime(day.year, day.month, day.day)
    times: set[float] = set()
    found = croniter(words, first - timedelta(seconds=1))
    for _ in range(MOST_A_DAY):
        wall: datetime = found.get_next(datetime)
        if wall >= first + timedelta(days=1):
            break
        times.update(_moments(wall, every_hour=words.split()[1] == "*"))
    return tuple(sorted(times))


def _moments(wall: datetime, every_hour: bool) -> list[float]:
    """When a clock on the wall shows that: never, once, or twice."""
    once, again = (wall.replace(fold=fold).timestamp() for fold in (0, 1))
    shown = [each for each in (once, again) if datetime.fromtimestamp(each).replace(fold=0) == wall]
    distinct = sorted(set(shown))
    return distinct if every_hour else distinct[:1]


def day_span(day: date) -> tuple[float, float]:
    """Where a day begins and ends, in seconds since 1970: 23 to 25 hours apart."""
    first, last = (datetime(each.year, each.month, each.day) for each in (day, day + timedelta(days=1)))
    return first.timestamp(), last.timestamp()


def schedule_words(words: str) -> str:
    """What people say of it, where it is a usual one."""
    if not words:
        return "when it comes"
    minute, *rest = words.split()
    if rest == ["*"] * 4 and minute == "0":
        return "on the hour"
    if rest == ["*"] * 4 and all(each.isdigit() for each in minute.split(",")):
        times = [f":{int(each):02}" for each in minute.split(",")]
        return f"at {' and '.join(filter(None, [', '.join(times[:-1]), times[-1]]))}"
    hour, *days = rest
    if minute.isdigit() and all(each.isdigit() for each in hour.split(",")) and days == ["*"] * 3:
        return f"at {', '.join(f'{int(each):02}:{int(minute):02}' for each in hour.split(','))}"
    return f"by {words}"


@dataclass(frozen=True)
class Slot:
    """A time that something is expected at, and from when on it is late. In seconds since 1970."""

    at_s: float
    late_s: float


def slot_of(arrived_s: float, words: str, late_after_s: float, taken: set[float]) -> Slot | None:
    """The expected time that an arrival is for: the nearest that nothing came for yet; None where there is none.

    Something may come before its time by half of what lies between two.
    """
    times = _around(arrived_s, words)
    free = [at for at in times if at not in taken and _begins(times, at) <= arrived_s < _ends(times, at)]
    return Slot(free[-1], free[-1] + late_after_s) if free else None


def _around(at_s: float, words: str) -> list[float]:
    day = datetime.fromtimestamp(at_s).date()
    return [at for by in (-1, 0, 1) for at in expected_on(words, day + timedelta(days=by))]


def _begins(times: list[float], at_s: float) -> float:
    """From when on something may be for a time."""
    before = [each for each in times if each < at_s]
    return (at_s + before[-1]) / 2 if before else at_s - 43_200.0


def _ends(times: list[float], at_s: float) -> float:
    """Until when: half way past the next."""
    after = [each for each in times if each > at_s]
    return (after[0] + after[1]) / 2 if len(after) > 1 else at_s + 86_400.0


def overdue(now_s: float, words: str, late_after_s: float, taken: set[float], since_s: float) -> list[float]:
    """Expected times after `since_s` that are late by now and that nothing came for."""
    return [at for at in _around(now_s, words) if since_s < at and at + late_after_s <= now_s and at not in taken]
