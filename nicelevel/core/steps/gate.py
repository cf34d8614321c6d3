"""What is quiet is turned down."""

import math
from collections.abc import Iterator
from dataclasses import dataclass
from functools import cached_property, lru_cache
from itertools import pairwise
from typing import Annotated, Any, ClassVar, Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from ..runs import runs
from ..signals import Signal
from ..stages import Ride, Stage
from ..units import ratio_from_db
from ..values import Shape
from ..words import amount, figure
from .hops import Hops
from .running_level import running_squares
from .step import Found, LevelDb, Milliseconds, Step, frames_of

AHEAD_TIME_CONSTANTS = 5.0
"""It begins to open so long before a sound: by then less than a hundredth of the reduction is left."""

SETTLED_DB = 1e-4
"""A gain so near to where it goes is there."""


class Loud(Found):
    """Stretches in which the level reaches the threshold, or that are held open between two.

    Their first frame and the one after their last.
    """

    stretches: tuple[tuple[int, int], ...] = ()


class Gate(Step):
    """It opens before a sound, not after it; times are time constants, of the gain in dB."""

    do: Literal["gate"] = "gate"
    below_db: LevelDb
    reduce_db: Annotated[float, Field(ge=0.0, le=200.0, allow_inf_nan=False)] = 20.0
    attack_ms: Milliseconds = 2.0
    hold_ms: Milliseconds = 100.0
    release_ms: Milliseconds = 150.0
    finds: ClassVar[type[Found] | None] = Loud

    def find(self, before: Signal) -> Loud:
        held_frames = frames_of(self.hold_ms / 1000.0, before.shape.rate_hz)
        return Loud(stretches=tuple(_reaching(before, ratio_from_db(self.below_db) ** 2, held_frames)))

    def guess(self, hops: Hops) -> Loud:
        found: list[tuple[int, int]] = []
        held_frames = frames_of(self.hold_ms / 1000.0, hops.rate_hz)
        for first, last in runs(hops.squares >= ratio_from_db(self.below_db) ** 2):
            if found and hops.frame(first) - found[-1][1] <= held_frames:
                found[-1] = (found[-1][0], hops.frame(last))
            else:
                found.append((hops.frame(first), hops.frame(last)))
        return Loud(stretches=tuple(found))

    def stages(self, before: Shape, found: Found | None) -> tuple[Stage, ...]:
        curve = self._curve(before, found)
        return (Ride(before, curve),) if curve.is_ever_closed else ()

    def _curve(self, before: Shape, found: Found | None) -> "_Opening":
        assert isinstance(found, Loud)
        to_frames = before.rate_hz / 1000.0
        hold = frames_of(self.hold_ms / 1000.0, before.rate_hz)
        return _Opening(
            before.frames,
            found.stretches,
            self.reduce_db,
            self.attack_ms * to_frames,
            hold,
            self.release_ms * to_frames,
        )

    @property
    def doing(self) -> str:
        return "turned down where it is quiet"

    @property
    def wish(self) -> str:
        return f"Turn down by {amount(self.reduce_db)} dB what is under {amount(self.below_db)} dB."

    def words(self, before: Shape, found: Found | None) -> str:
        curve = self._curve(before, found)
        if not curve.is_ever_closed:
            return f"Nothing lies under {amount(self.below_db)} dB for long."
        count, gaps_s = len(curve.gaps), sum(last - first for first, last in curve.gaps) / before.rate_hz
        return (
            f"Turned down {count} gap{'s' if count > 1 else ''}, {figure(gaps_s)} s, by {amount(self.reduce_db)} dB."
        )

    def figures(self, before: Shape, found: Found | None) -> dict[str, Any]:
        gaps = self._curve(before, found).gaps
        return {"turned_down": [[first / before.rate_hz, last / before.rate_hz] for first, last in gaps]}


@dataclass(frozen=True)
class _Part:
    """The gain runs from `from_db`, at `first`, towards `to_db`."""

    first: int
    from_db: float
    to_db: float
    frames: float

    def at(self, frame: NDArray[np.float64]) -> NDArray[np.float64]:
        if self.frames <= 0.0 or self.from_db == self.to_db:
            return np.full(len(frame), self.to_db)
        left_db = (self.from_db - self.to_db) * np.exp((self.first - frame) / self.frames)
        settled: NDArray[np.float64] = np.where(np.abs(left_db) < SETTLED_DB, 0.0, left_db) + self.to_db
        return settled

    def gain_db_at(self, frame: int) -> float:
        if self.frames <= 0.0 or self.from_db == self.to_db:
            return self.to_db
        left_db = (self.from_db - self.to_db) * math.exp((self.first - frame) / self.frames)
        return self.to_db if abs(left_db) < SETTLED_DB else self.to_db + left_db

    @cached_property
    def settles_at(self) -> int:
        """The frame from which on the gain rests."""
        way_db = abs(self.from_db - self.to_db)
        if way_db < SETTLED_DB:
            return self.first
        return self.first + math.ceil(self.frames * math.log(way_db / SETTLED_DB)) + 1

    def ratios(self, first: int, last: int) -> NDArray[np.float64]:
        """Of some frames of it: computed while it moves, one number where it rests."""
        ratios = np.full(last - first, ratio_from_db(self.to_db))
        moving = min(last, self.settles_at)
        if moving > first:
            way = _way(self.from_db, self.to_db, self.frames)
            ratios[: moving - first] = way[first - self.first : moving - self.first]
        return ratios

    @property
    def way(self) -> NDArray[np.float64]:
        """Ratios from its first frame until it rests."""
        frames = np.arange(self.first, self.settles_at, dtype=np.float64)
        ratios: NDArray[np.float64] = 10.0 ** (self.at(frames) / 20.0)
        return ratios


@lru_cache(maxsize=16)
def _way(from_db: float, to_db: float, frames: float) -> NDArray[np.float64]:
    """Most closings begin wide open, most openings from quite closed: all of these go the same way."""
    return _Part(0, from_db, to_db, frames).way


@dataclass(frozen=True)
class _Opening:
    """The gain of a gate that is open over some stretches and `hold` frames after each. Times in frames."""

    frames: int
    stretches: tuple[tuple[int, int], ...]
    reduce_db: float
    attack: float
    hold: int
    release: float

    @cached_property
    def gaps(self) -> tuple[tuple[int, int], ...]:
        """Where it is closed, or closing."""
        ahead = math.ceil(AHEAD_TIME_CONSTANTS * self.attack)
        opened = [(first - ahead, last + self.hold) for first, last in self.stretches]
        ends = [0, *(last for _, last in opened)]
        begins = [*(first for first, _ in opened), self.frames]
        gaps = ((end, min(begin, self.frames)) for end, begin in zip(ends, begins, strict=True))
        return tuple((first, last) for first, last in gaps if last > first)

    @property
    def is_ever_closed(self) -> bool:
        return bool(self.gaps) and self.reduce_db > 0.0

    @cached_property
    def _parts(self) -> tuple[_Part, ...]:
        return tuple(self._in_order())

    def _in_order(self) -> Iterator[_Part]:
        """A part for each closing and each opening. What is closed at the start has been so before."""
        gain_db, closed_db = 0.0, -self.reduce_db
        if not self.gaps or self.gaps[0][0] > 0:
            yield _Part(0, 0.0, 0.0, 0.0)
        for number, (first, last) in enumerate(self.gaps):
            closing = _Part(first, closed_db if first == 0 else gain_db, closed_db, self.release)
            yield closing
            opening = _Part(last, closing.gain_db_at(last), 0.0, self.attack)
            yield opening
            upto = self.gaps[number + 1][0] if number + 1 < len(self.gaps) else self.frames
            gain_db = opening.gain_db_at(upto)

    @cached_property
    def _firsts(self) -> NDArray[np.int64]:
        return np.array([part.first for part in self._parts], np.int64)

    def at(self, frames: NDArray[np.integer[Any]]) -> NDArray[np.float64]:
        first, from_db, to_db, constant = self._table[:, np.searchsorted(self._firsts, frames, "right") - 1]
        rests = (constant <= 0.0) | (from_db == to_db)
        left_db = (from_db - to_db) * np.exp((first - frames) / np.where(rests, 1.0, constant))
        left_db[rests | (np.abs(left_db) < SETTLED_DB)] = 0.0
        gains: NDArray[np.float64] = 10.0 ** ((left_db + to_db) / 20.0)
        return gains

    @cached_property
    def _table(self) -> NDArray[np.float64]:
        """First frame, gains and time constant of each part, a column each."""
        return np.array([(part.first, part.from_db, part.to_db, part.frames) for part in self._parts]).T

    def gains(self, first: int, last: int) -> NDArray[np.float64] | None:
        begin = int(np.searchsorted(self._firsts, first, "right")) - 1
        end = int(np.searchsorted(self._firsts, last, "left"))
        here = self._parts[begin:end]
        if len(here) == 1 and here[0].to_db == 0.0 and here[0].settles_at <= first:
            return None
        edges = [first, *(part.first for part in here[1:]), last]
        return np.concatenate([part.ratios(*edge) for part, edge in zip(here, pairwise(edges), strict=True)])


def _reaching(signal: Signal, threshold: float, most_apart: int) -> Iterator[tuple[int, int]]:
    """Where the mean square about a frame reaches a threshold; stretches less than so far apart are one."""
    done, open_from, open_to = 0, -1, -1
    for squares in running_squares(signal):
        for first, last in runs(squares >= threshold):
            if open_from < 0:
                open_from = done + first
            elif done + first - open_to > most_apart:
                yield open_from, open_to
                open_from = done + first
            open_to = done + last
        done += len(squares)
    if open_from >= 0:
        yield open_from, open_to
