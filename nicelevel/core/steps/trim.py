"""What is quieter than a threshold is taken off the ends."""

from typing import ClassVar, Literal

import numpy as np

from ..errors import EmptyError
from ..signals import Signal
from ..stages import Edit, Stage, Stretch
from ..units import ratio_from_db
from ..values import Shape
from ..words import amount, listed
from .hops import Hops
from .reaching import frames_reaching
from .step import Found, LevelDb, Seconds, Step, frames_of

BLOCK_FRAMES = 1 << 16


class Sounding(Found):
    """The frames from `first` to before `last` hold all that reaches the threshold; none do where it is silent."""

    first: int
    last: int


class Trim(Step):
    """keep_s: so much of what is quieter stays."""

    do: Literal["trim"] = "trim"
    where: Literal["both", "head", "tail"] = "both"
    below_db: LevelDb = -60.0
    keep_s: Seconds = 0.0
    finds: ClassVar[type[Found] | None] = Sounding

    def find(self, before: Signal) -> Sounding:
        threshold, first, last, done = ratio_from_db(self.below_db), None, 0, 0
        for block in before.blocks(BLOCK_FRAMES):
            reaching = frames_reaching(block, threshold)
            if len(reaching):
                first, last = done + int(reaching[0]) if first is None else first, done + int(reaching[-1]) + 1
            done += len(block)
        return Sounding(first=first or 0, last=last)

    def guess(self, hops: Hops) -> Sounding:
        reaching = np.flatnonzero(hops.peaks >= ratio_from_db(self.below_db))
        if not len(reaching):
            return Sounding(first=0, last=0)
        return Sounding(first=hops.frame(int(reaching[0])), last=hops.frame(int(reaching[-1]) + 1))

    def stages(self, before: Shape, found: Found | None) -> tuple[Stage, ...]:
        first, last = self._kept(before, found)
        if first == 0 and last == before.frames:
            return ()
        return (Edit(before, (Stretch(first, last - first, 0),), last - first),)

    def _kept(self, before: Shape, found: Found | None) -> tuple[int, int]:
        assert isinstance(found, Sounding)
        if found.last == 0:
            raise EmptyError(f"Nothing in it reaches {self.below_db:g} dBFS: trimmed, nothing is left.")
        kept = frames_of(self.keep_s, before.rate_hz)
        first = max(0, found.first - kept) if self.where != "tail" else 0
        return first, min(before.frames, found.last + kept) if self.where != "head" else before.frames

    @property
    def doing(self) -> str:
        return "trimmed"

    @property
    def wish(self) -> str:
        where = {"both": "both ends", "head": "the beginning", "tail": "the end"}[self.where]
        kept = f", but for {amount(self.keep_s)} s" if self.keep_s else ""
        return f"Trim {where} of what is quieter than {amount(self.below_db)} dB{kept}."

    def words(self, before: Shape, found: Found | None) -> str:
        first, last = self._kept(before, found)
        ends = ((first, "its beginning"), (before.frames - last, "its end"))
        taken = [f"{frames / before.rate_hz:.3f} s at {where}" for frames, where in ends if frames]
        return f"Took off {listed(taken) or 'nothing'}: quieter than {amount(self.below_db)} dBFS."
