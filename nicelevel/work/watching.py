"""Watching the folders of all lines: what is whole is put on the queue, what did not come is told.

Folders are looked into again and again, which works on every file system; where the system tells of changes it is
only sooner noticed. Any number of workers may watch the same folders: an arrival is a row, and there is one of it.
"""

import logging
import threading
import time
from collections.abc import Iterator
from contextlib import suppress
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta
from pathlib import Path

from watchfiles import watch

from nicelevel.config import Config
from nicelevel.core.arrivals import Arrival as Came
from nicelevel.core.arrivals import LineSettings, Settling
from nicelevel.core.arrivals.schedule import Slot, overdue, slot_of
from nicelevel.core.clock import clock_of
from nicelevel.core.errors import NiceLevelError
from nicelevel.desk.lines import MISSING, STAND_IN, mark_text, refuse_outside
from nicelevel.store.arrivals import add_arrival, forget_missing, held_for, known_marks, taken_times
from nicelevel.store.database import GONE, connected, database, process_ends, reconnect
from nicelevel.store.lines import lines, save_trouble, settings_of
from nicelevel.store.models import Line

from .arriving import PASSING, do_again, enqueue_arrival
from .keeping import sweep_arrivals
from .telling import enqueue_telling

logger = logging.getLogger("nicelevel.work")

LOOKS_PER_SETTLING, SHORTEST_S, LONGEST_S = 4, 0.05, 1.0
OVERDUE_EVERY_S, ROOM_EVERY_S, SWEEP_EVERY_S = 5.0, 20.0, 3_600.0
AWAY_S = 2.0
TELLING_MS = 200


@dataclass
class _Watched:
    """A line as it is watched. seen: when each file that is there was seen first, and known: those that are rows."""

    settings: LineSettings
    settling: Settling
    seen: dict[str, tuple[float, int]] = field(default_factory=dict)
    known: set[tuple[str, str]] = field(default_factory=set)
    is_growing: bool = False


class Watcher:
    """Looks until the process ends; `look` is one look."""

    def __init__(self, config: Config) -> None:
        self._config, self._clock = config, clock_of(config.arrivals_clock)
        self._watched: dict[int, _Watched] = {}
        self._overdue_s = self._room_s = 0.0
        self._swept_s = time.monotonic()  # it was at the start
        self._wake = threading.Event()
        self._told_of: tuple[str, ...] = ()
        self._stop_telling = threading.Event()

    def run(self) -> None:
        """Raises nothing: a database that is away is waited for."""
        while not process_ends.is_set():
            try:
                with connected():
                    self.look()
                pause_s = self._pause_s()
            except GONE:
                with suppress(*GONE):
                    reconnect()
                pause_s = AWAY_S
            except Exception:
                logger.exception("the folders could not be looked into")
                pause_s = AWAY_S
            self._wake.wait(pause_s)
            self._wake.clear()
        self._stop_telling.set()

    def look(self) -> int:
        """Look into every folder once; how many arrivals were put on the queue."""
        drawn = [(line, settings_of(line)) for line in lines()]
        running = [(line, settings) for line, settings in drawn if settings.runs]
        self._watched = {line.id: self._as_before(line, settings) for line, settings in running}
        self._be_told([settings.folder for _, settings in running])
        found = sum(self._look_into(line, self._watched[line.id]) for line, _ in running)
        if time.monotonic() - self._overdue_s >= OVERDUE_EVERY_S / max(1.0, self._clock.speed):
            self._overdue_s = time.monotonic()
            for line, settings in running:
                self._tell_overdue(line, settings)
        if time.monotonic() - self._room_s >= ROOM_EVERY_S:
            self._room_s = time.monotonic()
            self._try_again_for_room()
        if time.monotonic() - self._swept_s >= SWEEP_EVERY_S:
            self._swept_s = time.monotonic()
            sweep_arrivals(self._config)
        return found

    def _try_again_for_room(self) -> None:
        """A full disk says nothing of a file: what is held for it is done again by itself."""
        for arrival in held_for(PASSING):
            do_again(arrival, arrival.is_forced, self._clock, by_itself=True)

    def _as_before(self, line: Line, settings: LineSettings) -> _Watched:
        before = self._watched.get(line.id)
        if before and before.settings == settings:
            return before
        looked = Path(settings.folder), settings.settle_s, settings.subfolders, settings.marker
        return _Watched(settings, Settling(*looked))

    def _look_into(self, line: Line, watched: _Watched) -> int:
        try:
            refuse_outside(watched.settings, self._config.line_bounds)
            ready = watched.settling.look(time.monotonic())
        except NiceLevelError as error:
            save_trouble(line.id, error.message)
            return 0
        save_trouble(line.id, None)
        growing = watched.settling.growing()
        watched.is_growing = bool(growing)
        for name, mark in growing.items():
            watched.seen.setdefault(name, (self._clock.now_s(), mark[0]))
        present = watched.settling.present()
        watched.known = {each for each in watched.known if each[0] in present}
        watched.seen = {name: seen for name, seen in watched.seen.items() if name in present}
        fresh = [each for each in ready if (each.name, mark_text(each.mark)) not in watched.known]
        if not fresh:
            return 0
        known = known_marks(line.id, [each.name for each in fresh])
        watched.known |= known
        taken = [each for each in fresh if (each.name, mark_text(each.mark)) not in known]
        return sum(self._take(line, watched, each) for each in taken)

    def _take(self, line: Line, watched: _Watched, came: Came) -> int:
        """Make a row of it and put that on the queue, both or neither."""
        settings, now = watched.settings, self._clock.now()
        told = list(_course(watched.seen.pop(came.name, None), now.timestamp(), came))
        mark = mark_text(came.mark)
        with database.atomic():
            slot, missed = self._slot(line, settings, now.timestamp())
            columns = {"size_bytes": came.mark[0], "told": told}
            if slot is not None:
                late = now.timestamp() > slot.late_s
                columns |= {"expected_at": datetime.fromtimestamp(slot.at_s, UTC), "is_late": late}
            arrival = add_arrival(line, came.name, mark, now, **columns)
            if arrival is not None:
                enqueue_arrival(arrival)
                if missed is not None:
                    forget_missing(missed)
        watched.known.add((came.name, mark))
        return int(arrival is not None)

    def _slot(self, line: Line, settings: LineSettings, now_s: float) -> tuple[Slot | None, int | None]:
        """The time that an arrival is for, and the row that says that nothing came for it."""
        if not settings.expected:
            return None, None
        taken = taken_times(line.id, datetime.fromtimestamp(now_s, UTC) - timedelta(days=2))
        missed = {at: each.id for at, each in taken.items() if each.state == "missing"}
        slot = slot_of(now_s, settings.expected, settings.late_after_s, set(taken) - set(missed))
        return slot, missed.get(slot.at_s) if slot else None

    def _tell_overdue(self, line: Line, settings: LineSettings) -> None:
        """What is late by now and did not come: shown, told, or stood in for."""
        if not settings.expected:
            return
        now_s = self._clock.now_s()
        begun_s = line.made_at.timestamp() if self._clock.speed == 1.0 else self._clock.start_s
        since_s = max(begun_s, now_s - 86_400.0)
        taken = taken_times(line.id, datetime.fromtimestamp(since_s, UTC) - timedelta(days=1))
        for at in overdue(now_s, settings.expected, settings.late_after_s, set(taken), since_s):
            self._miss(line, settings, at, now_s)

    def _miss(self, line: Line, settings: LineSettings, at_s: float, now_s: float) -> None:
        expected = datetime.fromtimestamp(at_s, UTC)
        sentence = f"nothing came for {expected.astimezone():%H:%M}"
        stands_in = settings.when_nothing == "stand_in"
        name = Path(settings.stand_in).name if stands_in else ""
        with database.atomic():
            missing = add_arrival(
                line,
                name,
                f"{STAND_IN if stands_in else MISSING}{at_s:.0f}",
                expected,
                expected_at=expected,
                is_late=True,
                state="whole" if stands_in else "missing",
                told=[[round(now_s, 1), "bad", f"{sentence}{', its stand-in is taken' if stands_in else ''}"]],
            )
            if missing is None:
                return
            logger.warning("%s: %s", settings.name, sentence)
            if stands_in:
                enqueue_arrival(missing)
            if settings.when_nothing != "show":
                told = {"line": settings.name, "kind": "missing", "sentence": f"{settings.name}: {sentence}."}
                when = {"expected_at": expected.isoformat(), "arrival": missing.id}
                enqueue_telling(line.id, missing.id, settings.hook, told | when)

    def _pause_s(self) -> float:
        """Until the next look: soon where something is growing."""
        growing = [each.settings.settle_s for each in self._watched.values() if each.is_growing]
        wanted = min(growing, default=LONGEST_S * LOOKS_PER_SETTLING)
        return min(LONGEST_S, max(SHORTEST_S, wanted / LOOKS_PER_SETTLING))

    def _be_told(self, folders: list[str]) -> None:
        """Have the system tell of changes where it can, in a thread that ends with us or when folders change."""
        present = tuple(sorted({each for each in folders if Path(each).is_dir()}))
        if present == self._told_of:
            return
        self._stop_telling.set()
        self._stop_telling, self._told_of = threading.Event(), present
        if present:
            threading.Thread(target=self._listen, args=(present, self._stop_telling), daemon=True).start()

    def _listen(self, folders: tuple[str, ...], stop: threading.Event) -> None:
        # What cannot be watched so is looked into by the clock alone.
        with suppress(OSError, RuntimeError):
            for _ in watch(*folders, stop_event=stop, step=50, debounce=TELLING_MS, raise_interrupt=False):
                self._wake.set()


def _course(seen: tuple[float, int] | None, now_s: float, came: Came) -> Iterator[list[object]]:
    """What happened until it was whole."""
    if seen is not None:
        yield [round(seen[0], 1), "", f"growing, {seen[1] / 1e6:.1f} MB"]
    size = f"{came.mark[0] / 1e6:.1f} MB"
    yield [round(now_s, 1), "", f"whole, {size}" if came.why is None else f"no more comes: {size}"]


def start_watching(config: Config) -> threading.Thread:
    """Watch in a thread of its own for as long as the process lives."""
    thread = threading.Thread(target=Watcher(config).run, name="watching", daemon=True)
    thread.start()
    return thread
