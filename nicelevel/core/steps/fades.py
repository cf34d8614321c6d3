"""The gains of fades."""

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray

FadeShape = Literal["cosine", "linear", "concave", "convex"]

Gains = NDArray[np.float64]

_RISING: dict[FadeShape, Callable[[Gains], Gains]] = {
    "cosine": lambda t: 0.5 - 0.5 * np.cos(np.pi * t),
    "linear": lambda t: t,
    "concave": lambda t: np.sin(0.5 * np.pi * t),
    "convex": lambda t: 1.0 - np.cos(0.5 * np.pi * t),
}
"""Gain over a fade, from 0 to 1 as t goes from 0 to 1. Half a cosine has no corner at either end."""


@dataclass(frozen=True)
class Fades:
    """At the beginning and at the end of a signal of so many frames; the end mirrors the beginning.

    silent_frames: before the fade-in begins.
    """

    frames: int
    in_frames: int
    out_frames: int
    shape: FadeShape = "cosine"
    silent_frames: int = 0

    def gains(self, first: int, last: int) -> Gains | None:
        """Of some frames, each at its middle; None where all are 1."""
        if first >= self.silent_frames + self.in_frames and last <= self.frames - self.out_frames:
            return None
        return self.at(np.arange(first, last))

    def at(self, frames: NDArray[np.integer[Any]]) -> Gains:
        middles, gains = frames + 0.5, np.ones(len(frames))
        for left, length in (
            (middles - self.silent_frames, self.in_frames),
            (self.frames - middles, self.out_frames),
        ):
            if length:
                fading = left < length
                gains[fading] *= _RISING[self.shape](np.maximum(left[fading], 0.0) / length)
        gains[frames < self.silent_frames] = 0.0
        return gains
