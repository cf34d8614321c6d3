"""A tick at the head is mended: silent up to its end, then a short fade-in."""

from typing import Any, ClassVar, Literal

import numpy as np

from ..measure.gating import HOPS_PER_SECOND
from ..measure.tick import TICK_HOPS, begins_with_tick
from ..signals import Signal
from ..stages import Ride, Stage
from ..values import Shape
from ..words import amount
from .fades import Fades
from .hops import Hops
from .step import Found, Seconds, Step, frames_of

OVER_RATIO, OVER_PEAK_RATIO = 2.0, 0.01
"""A tick lasts while it passes twice what follows, and a hundredth of its own peak."""


class Place(Found):
    """Frames of its highest sample and of the one after its end; None where there is no tick."""

    peak: int | None = None
    end: int = 0


class Tick(Step):
    """A sound that begins on the first frame is left alone."""

    do: Literal["tick"] = "tick"
    within_s: Seconds = 0.01
    fade_s: Seconds = 0.002
    finds: ClassVar[type[Found] | None] = Place

    def find(self, before: Signal) -> Place:
        rate_hz, frames = before.shape.rate_hz, before.shape.frames
        edges = [hop * rate_hz // HOPS_PER_SECOND for hop in range(TICK_HOPS + 2)]
        if frames <= edges[TICK_HOPS]:
            return Place()
        head = np.abs(before.window(0, min(frames, edges[-1]))).max(axis=1)
        peaks = np.maximum.reduceat(head, [edge for edge in edges if edge < len(head)])
        if not begins_with_tick(peaks):
            return Place()
        within = head[: max(1, min(len(head), frames_of(self.within_s, rate_hz)))]
        over = max(OVER_RATIO * float(peaks[1 : TICK_HOPS + 1].max()), OVER_PEAK_RATIO * float(within.max()))
        ticking = np.flatnonzero(within > over)
        return Place(peak=int(within.argmax()), end=int(ticking[-1]) + 1) if len(ticking) else Place()

    def guess(self, hops: Hops) -> Place:
        is_there = begins_with_tick(hops.peaks)
        return Place(peak=0, end=hops.frame(1) // 2) if is_there else Place()

    def stages(self, before: Shape, found: Found | None) -> tuple[Stage, ...]:
        assert isinstance(found, Place)
        if found.peak is None:
            return ()
        fade = frames_of(self.fade_s, before.rate_hz)
        return (Ride(before, Fades(before.frames, fade, 0, silent_frames=found.end)),)

    @property
    def doing(self) -> str:
        return "mended"

    @property
    def wish(self) -> str:
        return f"Mend a tick in the first {amount(1000 * self.within_s)} ms."

    def words(self, before: Shape, found: Found | None) -> str:
        at_s = self.figures(before, found)["at_s"]
        return "There was no tick." if at_s is None else f"Mended a tick at {at_s:.3f} s."

    def figures(self, before: Shape, found: Found | None) -> dict[str, Any]:
        assert isinstance(found, Place)
        return {"at_s": None if found.peak is None else found.peak / before.rate_hz}
