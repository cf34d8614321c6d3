"""Several mixes as the contribution that a broadcaster takes."""

from collections.abc import Sequence
from dataclasses import dataclass, replace
from fractions import Fraction
from pathlib import Path

from ..errors import NiceLevelError, SpecError
from ..files import take_in
from ..files.wave_chunks import new_bext
from ..measure import measure
from ..programmes.adm import Carried
from ..programmes.in_step import PartError
from ..programmes.joining import Head, Joined, join
from ..programmes.levels import Levels, levels_of
from ..progress import Progress, share_of
from ..speech import dialogue_of
from ..values import Reading
from .timecode import FrameRate, frame_rate_of

MEASURED_SHARE = 0.6
COUNTS = {"stereo": "2", "mono": "1"}
"""What a configuration calls a layout; others go by their own name."""

LONGEST_GUARD_S = 3_600.0


@dataclass(frozen=True)
class Wanted:
    """frame_rate: its name; start: the time of day of the first frame of the programme, as pictures count; guard_s:
    silence before it, brought up to whole frames."""

    frame_rate: str
    start: str
    guard_s: float = 0.0


@dataclass(frozen=True)
class Contributed:
    """configuration: the layouts side by side, "5.1+2"; guard_frames, time_reference: in samples."""

    joined: Joined
    configuration: str
    rate: FrameRate
    start: str
    guard_frames: int
    time_reference: int
    levels: tuple[Levels, ...]


def contribute(
    paths: Sequence[Path], to: Path, labels: Sequence[str], wanted: Wanted, progress: Progress | None = None
) -> Contributed:
    """Write files of one programme each into a contribution, with what was measured of each just before.

    labels: of all of them. Raises SpecError where start or frame rate are none, and as `join`.
    """
    rate, start, guard = refuse_wanted(wanted)
    readings = [
        _measured(number, path, share_of(progress, MEASURED_SHARE * number / len(paths), MEASURED_SHARE / len(paths)))
        for number, path in enumerate(paths)
    ]
    rate_hz = readings[0].source.sample_rate_hz
    first, begins = (rate.samples(frame, rate_hz) for frame in (start - guard, start))
    configuration = "+".join(COUNTS.get(each.source.layout.name, each.source.layout.name) for each in readings)
    levels = tuple(map(levels_of, readings))
    said = f"{configuration}, {rate.name} frames/s, programme from {wanted.start}"
    head = Head(
        guard_frames=begins - first,
        chunks=((b"bext", new_bext(said, first, readings[0])),),
        carried=Carried(levels, rate.name, rate.text(start)),
        is_bw64=True,
    )
    joined = join(paths, to, labels, share_of(progress, MEASURED_SHARE, 1.0 - MEASURED_SHARE), head)
    return Contributed(joined, configuration, rate, rate.text(start), begins - first, first, levels)


def refuse_wanted(wanted: Wanted) -> tuple[FrameRate, int, int]:
    """Frame rate, start and guard in frames. Raises SpecError where they are none."""
    rate = frame_rate_of(wanted.frame_rate)
    if not 0.0 <= wanted.guard_s <= LONGEST_GUARD_S:
        raise SpecError(f"A guard time goes from 0 to {LONGEST_GUARD_S:.0f} s.")
    start, guard = rate.frames(wanted.start), -int(-Fraction(wanted.guard_s) * rate.exact // 1)
    if guard > start:
        raise SpecError(f"{wanted.guard_s:g} s before {wanted.start} is the day before.")
    return rate, start, guard


def _measured(number: int, path: Path, progress: Progress | None) -> Reading:
    """With the level of what is spoken. Raises PartError."""
    try:
        reading = measure(path, progress)
        with take_in(path) as audio:
            return replace(reading, dialogue_lufs=dialogue_of(audio).lufs)
    except NiceLevelError as error:
        raise PartError(number, error) from error
