"""An MP3 brought to a level in whole steps, everything else bit for bit; and the bytes that came in again."""

import hashlib
import math
from dataclasses import dataclass
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from ..ahead import beside
from ..errors import CannotMeetError, SpecError, UnsupportedError
from ..files import StagedFile, take_in
from ..files.staged import speaking_errors
from ..measure import measure
from ..progress import Progress, share_of
from ..values import Reading
from .frames import STEP_DB, Walked, shift, walk
from .id3 import audio_start, change_in, with_change

MOST_STEPS = 255
MEASURED_SHARE = 0.5


@dataclass(frozen=True)
class Wish:
    """One of the three: a loudness in LUFS, a gain in dB, or what was changed taken back. max_true_peak_dbtp: fewer
    steps where more would pass it."""

    target_lufs: float | None = None
    gain_db: float | None = None
    undo: bool = False
    max_true_peak_dbtp: float | None = None

    @property
    def needs_measuring(self) -> bool:
        return self.target_lufs is not None or self.max_true_peak_dbtp is not None


@dataclass(frozen=True)
class Regained:
    """steps: that were added now; asked_db: None of what was taken back; before, after: None where nothing had to be
    measured."""

    path: Path
    sha256: str
    steps: int
    asked_db: float | None
    before: Reading | None
    after: Reading | None

    @property
    def gain_db(self) -> float:
        return self.steps * STEP_DB

    @property
    def error_db(self) -> float:
        return 0.0 if self.asked_db is None else self.gain_db - self.asked_db


def regain(path: Path, folder: Path, wish: Wish, progress: Progress | None = None) -> Regained:
    """Write a file of the same name into a folder.

    Raises CannotMeetError where a gain field would leave 0 to 255, DamagedError where a checksum is wrong,
    UnsupportedError and NotAudioError where it is no MP3 that can be changed so, OutputExistsError where the name is
    taken, SpecError where not one thing is asked for.
    """
    if sum((wish.target_lufs is not None, wish.gain_db is not None, wish.undo)) != 1:
        raise SpecError("A level, a gain, or what was changed taken back: one of the three.")
    coded = _Coded(path)
    before = (
        measure(path, share_of(progress, 0.0, MEASURED_SHARE)) if wish.needs_measuring and not wish.undo else None
    )
    asked_db, steps = _steps(wish, before, coded.known_steps)
    coded.move(steps)
    target = folder / path.name
    with speaking_errors(target):
        folder.mkdir(parents=True, exist_ok=True)
        staged = StagedFile(target)
    try:
        with speaking_errors(target):
            digest = coded.write(staged.path)
        with beside(staged.settle) as settled:
            after = measure(staged.path, share_of(progress, MEASURED_SHARE, MEASURED_SHARE)) if before else None
            settled.result()
        staged.publish()
    finally:
        staged.discard()
    return Regained(target, digest, steps, asked_db, before, after)


def write_in_steps(path: Path, to: Path, steps: int) -> None:
    """Write a file with so many steps more. Raises as `regain` does."""
    coded = _Coded(path)
    coded.move(steps)
    with speaking_errors(to):
        coded.write(to)


class _Coded:
    """All of a file, read and walked over. Raises as one that cannot be read, and as `walk`.

    known_steps: that its tag says were added here; None where it says nothing.
    """

    def __init__(self, path: Path) -> None:
        with take_in(path):  # which says what is wrong with it
            self._data: NDArray[np.uint8] = np.fromfile(path, np.uint8)
        self._start = audio_start(self._data.data)
        self._walked, self._tags = walk(self._data, self._start), self._data[: self._start].tobytes()
        known = change_in(self._tags)
        self.known_steps = known.steps if known else None

    def move(self, steps: int) -> None:
        """Move every gain. Raises CannotMeetError where one would leave its field."""
        _refuse_past_the_field(self._walked, steps)
        if steps:
            shift(self._data, self._start, steps)
            self._tags = with_change(self._tags, (self.known_steps or 0) + steps)

    def write(self, to: Path) -> str:
        """Tags and frames, one behind the other; their SHA-256."""
        digest, audio = hashlib.sha256(self._tags), self._data[self._start :]
        with to.open("wb") as file, beside(lambda: digest.update(audio.data)) as hashed:
            file.write(self._tags)
            file.write(audio.data)
            hashed.result()
        return digest.hexdigest()


def _steps(wish: Wish, before: Reading | None, known: int | None) -> tuple[float | None, int]:
    """What is asked for in dB, and the steps that come nearest to it and pass no ceiling."""
    if wish.undo:
        if known is None:
            raise UnsupportedError("Nothing says that it was changed here: there is nothing to take back.")
        return None, -known
    asked_db = wish.gain_db if wish.gain_db is not None else _asked_by_level(wish, before)
    if not math.isfinite(asked_db) or abs(asked_db) > MOST_STEPS * STEP_DB:
        raise SpecError(f"A gain goes to {MOST_STEPS * STEP_DB:.0f} dB either way.")
    steps = round(asked_db / STEP_DB)
    if wish.max_true_peak_dbtp is not None and before is not None and math.isfinite(before.true_peak_dbtp):
        room_db = wish.max_true_peak_dbtp - before.true_peak_dbtp
        steps = min(steps, math.floor(room_db / STEP_DB + 1e-9))
    return asked_db, steps


def _asked_by_level(wish: Wish, before: Reading | None) -> float:
    assert before
    assert wish.target_lufs is not None
    if math.isinf(before.integrated_lufs):
        raise CannotMeetError("Nothing in it is loud enough to be measured, so there is no level to bring anywhere.")
    return wish.target_lufs - before.integrated_lufs


def _refuse_past_the_field(walked: Walked, steps: int) -> None:
    if walked.lowest is None or walked.highest is None:
        return
    most, least = MOST_STEPS - walked.highest, -walked.lowest
    if not least <= steps <= most:
        largest = most if steps > 0 else least
        raise CannotMeetError(
            f"{abs(steps)} steps are more than its frames can hold: the largest is {largest} "
            f"({largest * STEP_DB:+.1f} dB).".replace("-", "\N{MINUS SIGN}")
        )
