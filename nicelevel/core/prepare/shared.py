"""Measured signals that are made once for all who write them side by side or shortly after each other."""

import math
import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import Any

from numpy.typing import NDArray

from ..errors import NiceLevelError
from ..files import take_in
from ..files.codes import HELD, Coding, coding_of
from ..measure import BLOCK_FRAMES
from ..signals import Kept, PastRangeError, Signal
from ..signals.kept import bytes_of, coded_blocks, empty_codes
from ..steps import Chain
from ..values import Source

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

    def __init__(self, path: Path, chain: Chain, coding: Coding) -> None:
        super().__init__(chain.shape, empty_codes(chain.shape, coding))
        self.users, self.left_s = 0, 0.0
        self._path, self._chain = path, chain
        self._made_frames, self._has_ended, self._is_stopped = 0, False, False
        self._changed = threading.Condition()
        threading.Thread(target=self._make, daemon=True).start()

    def code_blocks(self, frames: int) -> Iterator[NDArray[Any]]:
        for first in range(0, len(self.codes), frames):
            last = min(first + frames, len(self.codes))
            with self._changed:
                self._changed.wait_for(lambda last=last: self._made_frames >= last or self._has_ended)  # type: ignore[misc]
                if self._made_frames < last:
                    return
            yield self.codes[first:last]

    def stop(self) -> None:
        """Make no more."""
        self._is_stopped = True

    def _make(self) -> None:
        try:
            # What a reader cannot do without, it meets itself.
            with suppress(NiceLevelError, PastRangeError, OSError, MemoryError), take_in(self._path) as audio:
                for block in coded_blocks(self._chain.on(audio), self.coding, BLOCK_FRAMES, self.codes):
                    if self._is_stopped:
                        return
                    with self._changed:
                        self._made_frames += len(block)
                        self._changed.notify_all()
        finally:
            with self._changed:
                self._has_ended = True
                self._changed.notify_all()


class SharedSignals:
    """All that are shared in a process. May be used from many threads."""

    def __init__(self, most_bytes: int = MOST_BYTES, linger_s: float = LINGER_S) -> None:
        self._most_bytes, self._linger_s = most_bytes, linger_s
        self._signals: dict[tuple[Path, Chain], BeingMade] = {}
        self._lock, self._is_waiting = threading.Lock(), False

    @contextmanager
    def reading(self, path: Path, chain: Chain, is_wanted_again: bool) -> Iterator[Signal | None]:
        """What a chain makes of a file, for as long as the context lasts; files of single channels share one.

        None where it is as quickly read again, where there is no room for it, or where nobody else wants it. Raises
        the NiceLevelError named for the cause where the file cannot be used.
        """
        signal = self._join(path, chain.programme, is_wanted_again)
        try:
            yield chain.rest_on(signal) if signal else None
        finally:
            if signal:
                self._leave(signal)

    def _join(self, path: Path, chain: Chain, is_wanted_again: bool) -> BeingMade | None:
        with self._lock:
            signal = self._signals.get((path, chain))
            if signal is None and is_wanted_again:
                signal = self._begin(path, chain)
            if signal:
                signal.users += 1
            return signal

    def _begin(self, path: Path, chain: Chain) -> BeingMade | None:
        with take_in(path) as audio:
            source, is_coded = audio.source, audio.is_coded
        if chain.is_nothing and not is_coded:
            return None
        coding = _coding(source, chain)
        needed_bytes = bytes_of(chain.shape, coding)
        if needed_bytes > self._room_bytes():
            self._drop_unused()
        if needed_bytes > self._room_bytes():
            return None
        signal = self._signals[path, chain] = BeingMade(path, chain, coding)
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


def _coding(source: Source, chain: Chain) -> Coding:
    """Whole numbers where they are exact: of what is on the grid, and of what is not touched."""
    is_short = source.bits_declared is not None and source.bits_declared <= HELD_BITS
    return HELD if chain.is_nothing and is_short else chain.coding_after(coding_of(source))
