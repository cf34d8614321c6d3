"""Pauses made shorter."""

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any, ClassVar, Literal

import numpy as np

from ..kernels import Floats, Integers, kernel
from ..runs import runs
from ..signals import Signal
from ..stages import Edit, Stage, Stretch
from ..units import ratio_from_db
from ..values import Shape
from ..words import amount
from .hops import Hops
from .step import Found, LevelDb, Seconds, Step, frames_of

BLOCK_FRAMES = 1 << 16
LONGEST_JOIN_S = 0.01


class Quiet(Found):
    """Stretches in which no sample of any channel reaches the threshold, and that are long enough: their first frame
    and the one after their last.
    """

    stretches: tuple[tuple[int, int], ...] = ()


@dataclass(frozen=True)
class _Cut:
    """What is taken out of a pause: the frames from `first` to before `last`.

    join: so many frames before `first` are faded over into as many before `last`.
    """

    first: int
    last: int
    join: int = 0


class Pauses(Step):
    """A pause of `longer_than_s` and more becomes `keep_s` long; none is made longer.

    At the head its end is kept, at the tail its beginning, inside half of each, joined over 10 ms where there is
    room: never into the sound after it, so that no attack is softened.
    """

    do: Literal["pauses"] = "pauses"
    where: Literal["everywhere", "head", "tail", "inside"] = "everywhere"
    below_db: LevelDb = -50.0
    longer_than_s: Seconds = 1.2
    keep_s: Seconds = 0.2
    finds: ClassVar[type[Found] | None] = Quiet

    def find(self, before: Signal) -> Quiet:
        shortest = max(1, frames_of(self.longer_than_s, before.shape.rate_hz))
        found = quiet_stretches(before, ratio_from_db(self.below_db), shortest)
        return Quiet(stretches=tuple(found))

    def guess(self, hops: Hops) -> Quiet:
        quiet = runs(hops.peaks < ratio_from_db(self.below_db))
        found = ((hops.frame(first), hops.frame(last)) for first, last in quiet)
        shortest = max(1, frames_of(self.longer_than_s, hops.rate_hz))
        return Quiet(stretches=tuple(each for each in found if each[1] - each[0] >= shortest))

    def stages(self, before: Shape, found: Found | None) -> tuple[Stage, ...]:
        cuts = tuple(self._cuts(before, found))
        if not cuts:
            return ()
        frames = before.frames - sum(cut.last - cut.first for cut in cuts)
        return (Edit(before, tuple(_stretches(before, cuts)), frames),)

    def _cuts(self, before: Shape, found: Found | None) -> Iterator[_Cut]:
        """In their order."""
        assert isinstance(found, Quiet)
        kept, free_from = frames_of(self.keep_s, before.rate_hz), 0
        longest_join = frames_of(LONGEST_JOIN_S, before.rate_hz)
        for first, last in found.stretches:
            place = "head" if first == 0 else "tail" if last == before.frames else "inside"
            if last - first > kept and self.where in ("everywhere", place):
                if place == "head":
                    yield _Cut(0, last - kept)
                elif place == "tail":
                    yield _Cut(first + kept, last)
                else:
                    yield _inside(first, last, kept, longest_join, free_from)
            free_from = last

    @property
    def doing(self) -> str:
        return "freed of its pauses"

    @property
    def wish(self) -> str:
        longer, kept = amount(self.longer_than_s), amount(self.keep_s)
        return f"Shorten pauses of {longer} s and more to {kept} s, {_WHERE[self.where]}."

    def words(self, before: Shape, found: Found | None) -> str:
        cuts = list(self._cuts(before, found))
        if not cuts:
            return "There was no pause to be shortened."
        taken_s = sum(cut.last - cut.first for cut in cuts) / before.rate_hz
        return f"Took out {len(cuts)} pause{'s' if len(cuts) > 1 else ''}, {taken_s:.1f} s."

    def figures(self, before: Shape, found: Found | None) -> dict[str, Any]:
        cuts = self._cuts(before, found)
        return {"taken_out": [[cut.first / before.rate_hz, cut.last / before.rate_hz] for cut in cuts]}


_WHERE = {"everywhere": "everywhere", "head": "at the beginning", "tail": "at the end", "inside": "inside"}


def _inside(first: int, last: int, kept: int, longest_join: int, free_from: int) -> _Cut:
    """What is taken out of a pause inside, half of what is kept being left on either side.

    The join lies in the pause; where nothing of it is kept, over the end of what sounds before it, so that the attack
    after it stays as it is. free_from: where what may be faded begins.
    """
    beginning = kept - kept // 2
    join = min(longest_join, last - first - kept, beginning or first - free_from)
    return _Cut(first + beginning, last - kept + beginning, join)


def _stretches(before: Shape, cuts: tuple[_Cut, ...]) -> Iterator[Stretch]:
    """What is kept between cuts, with a crossfade at each join."""
    begin, at = 0, 0
    for cut in cuts:
        end = cut.first - cut.join
        if end > begin:
            yield Stretch(begin, end - begin, at)
            at += end - begin
        if cut.join:
            yield Stretch(end, cut.join, at, "falling")
            yield Stretch(cut.last - cut.join, cut.join, at, "rising")
            at += cut.join
        begin = cut.last
    if begin < before.frames:
        yield Stretch(begin, before.frames - begin, at)


def quiet_stretches(signal: Signal, threshold: float, shortest: int) -> Iterator[tuple[int, int]]:
    """Where no sample of any channel reaches a threshold for at least so many frames, in their order."""
    done, quiet_from = 0, np.zeros(1, np.int64)
    for block in signal.blocks(BLOCK_FRAMES):
        columns = np.ascontiguousarray(block.T, np.float64)
        found = np.empty((len(block) // 2 + 1, 2), np.int64)
        count = find_quiet(columns, threshold, shortest, done, quiet_from, found)
        yield from map(tuple, found[:count].tolist())
        done += len(block)
    if done - quiet_from[0] >= shortest:
        yield int(quiet_from[0]), done


@kernel
def find_quiet(
    columns: Floats, threshold: float, shortest: int, done: int, quiet_from: Integers, found: Integers
) -> int:
    """How many quiet stretches end in a block; they are put into `found`.

    columns: channels × frames, from frame `done` on; quiet_from: from this frame on no sample reached the threshold.
    """
    count, begin = 0, quiet_from[0]
    for at in range(columns.shape[1]):
        is_quiet = True
        for channel in range(len(columns)):
            is_quiet = is_quiet and abs(columns[channel, at]) < threshold
        if not is_quiet:
            if done + at > begin and done + at - begin >= shortest:
                found[count, 0], found[count, 1] = begin, done + at
                count += 1
            begin = done + at + 1
    quiet_from[0] = begin
    return count
