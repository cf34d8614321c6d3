"""A gain that was found, kept as points along time."""

import base64
import zlib
from collections.abc import Sequence
from dataclasses import dataclass
from functools import lru_cache
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ..kernels import Floats as Array
from ..kernels import kernel
from .step import Found

POINT_DB = 0.001
"""Points are kept as whole numbers of this."""

Floats = NDArray[np.float64]


class GainPoints(Found):
    """A gain in dB every so many frames, from the first frame on.

    packed: their differences in steps of POINT_DB, 32-bit little-endian, by zlib, in base64.
    """

    step_frames: int
    packed: str

    @classmethod
    def of(cls, step_frames: int, gains_db: Sequence[float] | Floats) -> "GainPoints":
        """Points as they are kept."""
        steps = np.round(np.asarray(gains_db, np.float64) / POINT_DB).astype("<i4")
        data = np.diff(steps, prepend=np.int32(0)).astype("<i4").tobytes()
        return cls(step_frames=step_frames, packed=base64.b64encode(zlib.compress(data, 6)).decode())

    @property
    def gains_db(self) -> Floats:
        return _unpacked(self.packed)

    @property
    def is_nothing(self) -> bool:
        return not self.gains_db.any()

    @property
    def span_db(self) -> tuple[float, float]:
        """Lowest and highest."""
        return float(self.gains_db.min()), float(self.gains_db.max())


@lru_cache(maxsize=16)
def _unpacked(packed: str) -> Floats:
    steps = np.cumsum(np.frombuffer(zlib.decompress(base64.b64decode(packed)), "<i4"), dtype=np.int64)
    gains_db: Floats = steps.astype(np.float64) * POINT_DB
    return gains_db


@dataclass(frozen=True)
class PointsCurve:
    """The gain of every frame: between points its ratio goes in a straight line."""

    points: GainPoints
    more_db: float = 0.0

    def at(self, frames: NDArray[np.integer[Any]]) -> Floats:
        ratios = 10.0 ** ((self.points.gains_db + self.more_db) / 20.0)
        found: Floats = np.interp(frames, np.arange(len(ratios)) * self.points.step_frames, ratios)
        return found

    def gains(self, first: int, last: int) -> Floats | None:
        step = self.points.step_frames
        begin, end = first // step, -(-last // step) + 1
        gains_db = self.points.gains_db[begin:end]
        gains_db = np.pad(gains_db, (0, end - begin - len(gains_db)), mode="edge") + self.more_db
        if not gains_db.any():
            return None
        between = np.empty(last - first)
        go_straight(10.0 ** (gains_db / 20.0), step, first - begin * step, between)
        return between


@kernel
def go_straight(ratios: Array, step: int, first: int, between: Array) -> None:
    """Values between points that are `step` apart, from `first` frames after the first point on."""
    done, point, into = 0, first // step, first % step
    while done < len(between):
        count = min(step - into, len(between) - done)
        slope = ratios[point + 1] - ratios[point]
        for at in range(count):
            between[done + at] = ratios[point] + slope * ((into + at) / step)
        done, point, into = done + count, point + 1, 0
