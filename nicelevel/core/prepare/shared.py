"""Prepared signals that are made once for all who write them side by side or shortly after each other."""

import math
import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path

from ..errors import NiceLevelError
from ..files import take_in
from ..files.blocks import Block
from ..files.codes import DOUBLE, HELD, Coding
from ..values import Preparation, Source
from .held import Kept, PastRangeError, is_in_steps, samples_of
from .prepared import bytes_of, coded_blocks, empty_codes, prepared_source

MOST_BYTES = 108_000_000
"""Of all signals that are shared at one time: five minutes of 44.1 kHz in stereo."""

LINGER_S = 10.0
"""So long a signal stays for who comes next."""

HELD_BITS = 24
"""Whole numbers up to this word length are held as they are."""


class BeingMade(Kept):
    """A prepared signal that a thread of its own makes; who reads waits for what is not there yet.

    Where it cannot be made it ends early: its readers make the rest for themselves and meet the reason.
    """

    def __init__(self, path: Path, preparation: Preparation, source: Source, coding: Coding) -> None:
        super().__init__(empty_codes(source, coding))
        self.users, self.left_s = 0, 0.0
        self._path, self._preparation, self._coding = path, preparation, coding
        self._made_frames, self._has_ended, self._is_stopped = 0, False, False
        self._changed = threading.Condition()
        threading.Thread(target=self._make, daemon=True).start()

    def blocks(self, frames: int) -> Iterator[Block]:
        for first in range(0, len(self.codes), frames):
            last = min(first + frames, len(self.codes))
            with self._changed:
                self._changed.wait_for(lambda last=last: self._made_frames >= last or self._has_ended)  # type: ignore[misc]
                if self._made_frames < last:
                    return
            yield samples_of(self.codes[first:last])

    def stop(self) -> None:
        """Make no more."""
        self._is_stopped = True

    def _make(self) -> None:
        try:
            # What a reader cannot do without, it meets itself.
            with suppress(NiceLevelError, PastRangeError, OSError, MemoryError), take_in(self._path) as audio:
                for block in coded_blocks(audio, self._preparation, self._coding, self.codes):
                    if self._is_stopped:
                        return
                    with self._changed:
                        self._made_frames += len(block)
                        self._changed.notify_all()
        finally:
            with self._changed:
                self._has_ended = True
                self._changed.notify_all()


class OneChannel(Kept):
    """One channel of a prepared signal."""

    def __init__(self, whole: Kept, channel: int) -> None:
        super().__init__(whole.codes[:, channel : channel + 1])
        self._whole, self._channel = whole, channel

    def blocks(self, frames: int) -> Iterator[Block]:
        return (block[:, self._channel : self._channel + 1] for block in self._whole.blocks(frames))


class SharedSignals:
    """All that are shared in a process. May be used from many threads."""

    def __init__(self, most_bytes: int = MOST_BYTES, linger_s: float = LINGER_S) -> None:
        self._most_bytes, self._linger_s = most_bytes, linger_s
        self._signals: dict[tuple[Path, Preparation], BeingMade] = {}
        self._lock, self._is_waiting = threading.Lock(), False

    @contextmanager
    def reading(self, path: Path, preparation: Preparation, is_wanted_again: bool) -> Iterator[Kept | None]:
        """A prepared signal of a file, for as long as the context lasts.

        None where it is as quickly read again, where there is no room for it, or where nobody else wants it. Raises
        the NiceLevelError named for the cause where the file cannot be used.
        """
        signal = self._join(path, preparation.of_all_channels, is_wanted_again)
        try:
            is_part = signal is not None and preparation.channel is not None
            yield OneChannel(signal, preparation.channel) if is_part else signal  # type: ignore[arg-type]
        finally:
            if signal:
                self._leave(signal)

    def _join(self, path: Path, preparation: Preparation, is_wanted_again: bool) -> BeingMade | None:
        with self._lock:
            signal = self._signals.get((path, preparation))
            if signal is None and is_wanted_again:
                signal = self._begin(path, preparation)
            if signal:
                signal.users += 1
            return signal

    def _begin(self, path: Path, preparation: Preparation) -> BeingMade | None:
        with take_in(path) as audio:
            source, is_coded = audio.source, audio.is_coded
        if preparation.is_nothing and not is_coded:
            return None
        coding, described = _coding(source, preparation), prepared_source(source, preparation)
        needed_bytes = bytes_of(described, coding)
        if needed_bytes > self._room_bytes():
            self._drop_unused()
        if needed_bytes > self._room_bytes():
            return None
        signal = self._signals[path, preparation] = BeingMade(path, preparation, described, coding)
        return signal

    def _room_bytes(self) -> int:
        return self._most_bytes - sum(signal.codes.nbytes for signal in self._signals.values())

    def _leave(self, signal: BeingMade) -> None:
        with self._lock:
            signal.users, signal.left_s = signal.users - 1, time.monotonic()
            self._wait_for_users()

    def _wait_for_users(self) -> None:
        """Have dropped what nobody comes back for; one timer is enough for all."""
        if not self._is_waiting and any(signal.users == 0 for signal in self._signals.values()):
            # A little later, or the clock may say that it is not yet over.
            timer = threading.Timer(1.1 * self._linger_s, self._drop_left)
            timer.daemon = self._is_waiting = True
            timer.start()

    def _drop_left(self) -> None:
        with self._lock:
            self._is_waiting = False
            self._drop_unused(time.monotonic() - self._linger_s)
            self._wait_for_users()

    def _drop_unused(self, left_before_s: float = math.inf) -> None:
        for key, signal in list(self._signals.items()):
            if signal.users == 0 and signal.left_s <= left_before_s:
                signal.stop()
                del self._signals[key]


def _coding(source: Source, preparation: Preparation) -> Coding:
    """Whole numbers where they are exact: of what is in steps, and of what is not touched."""
    is_short = source.bits_declared is not None and source.bits_declared <= HELD_BITS
    return HELD if is_in_steps(source, preparation) or (preparation.is_nothing and is_short) else DOUBLE
