"""Time of day as pictures count it (SMPTE ST 12-1): hours, minutes, seconds, frames."""

import re
from dataclasses import dataclass
from fractions import Fraction

from ..errors import SpecError

_TIME = re.compile(r"(\d\d):(\d\d):(\d\d)([:;])(\d\d)")
DAY_S = 86_400


@dataclass(frozen=True)
class FrameRate:
    """counted: frames in what is called a second; exact: in a second; drops: numbers are left out, so that the
    count keeps up with the clock."""

    name: str
    counted: int
    exact: Fraction
    drops: bool = False

    @property
    def _dropped_a_minute(self) -> int:
        """ST 12-1: two of 30, four of 60, but not every tenth minute."""
        return self.counted // 15 if self.drops else 0

    def frames(self, text: str) -> int:
        """The number of a frame since midnight. Raises SpecError where there is no such time."""
        found = _TIME.fullmatch(text.strip())
        if not found:
            raise SpecError(f'A start reads "10:00:00:00", hours to frames; "{text}" does not.')
        hours, minutes, seconds, frame = (int(found[at]) for at in (1, 2, 3, 5))
        if hours > 23 or minutes > 59 or seconds > 59 or frame >= self.counted:
            raise SpecError(f"There is no {text} at {self.name} frames a second.")
        dropped = self._dropped_a_minute
        if seconds == 0 and minutes % 10 and frame < dropped:
            raise SpecError(f"{text} is left out where {self.name} frames a second are counted.")
        in_minutes = 60 * hours + minutes
        whole = (60 * in_minutes + seconds) * self.counted + frame
        return whole - dropped * (in_minutes - in_minutes // 10)

    def text(self, frame: int) -> str:
        """The time of day of a frame."""
        dropped, ten = self._dropped_a_minute, 600 * self.counted - 9 * self._dropped_a_minute
        tens, left = divmod(frame, ten)
        minute = 60 * self.counted - dropped
        more = 0 if left < 60 * self.counted else 1 + (left - 60 * self.counted) // minute
        number = frame + dropped * (9 * tens + more)
        seconds, at = divmod(number, self.counted)
        sign = ";" if self.drops else ":"
        return f"{seconds // 3600 % 24:02d}:{seconds // 60 % 60:02d}:{seconds % 60:02d}{sign}{at:02d}"

    def samples(self, frames: int, rate_hz: int) -> int:
        """So many pictures in samples, to the nearest one."""
        return round(frames * rate_hz / self.exact)


FRAME_RATES = {
    rate.name: rate
    for rate in (
        FrameRate("23.976", 24, Fraction(24_000, 1001)),
        FrameRate("24", 24, Fraction(24)),
        FrameRate("25", 25, Fraction(25)),
        FrameRate("29.97", 30, Fraction(30_000, 1001)),
        FrameRate("29.97 drop", 30, Fraction(30_000, 1001), True),
        FrameRate("30", 30, Fraction(30)),
        FrameRate("50", 50, Fraction(50)),
        FrameRate("59.94", 60, Fraction(60_000, 1001)),
        FrameRate("59.94 drop", 60, Fraction(60_000, 1001), True),
        FrameRate("60", 60, Fraction(60)),
    )
}


def frame_rate_of(name: str) -> FrameRate:
    """Raises SpecError where there is none of this name."""
    if name not in FRAME_RATES:
        raise SpecError(f"{name}: no such frame rate; there are {', '.join(FRAME_RATES)}.")
    return FRAME_RATES[name]
