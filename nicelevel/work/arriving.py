"""The task that takes an arrival through its line. Done twice it publishes the same bytes once more."""

import logging
import shutil
import time
from functools import partial
from pathlib import Path
from typing import Any

from nicelevel.config import Config
from nicelevel.core.arrivals import LineSettings, Outcome
from nicelevel.core.clock import Clock, clock_of
from nicelevel.core.errors import LostError, OutputExistsError, StoppedError
from nicelevel.desk.lines import (
    DEMO,
    Kept,
    figures_of,
    handled,
    kept_of,
    put_away,
    refuse_outside,
    stays_on_air,
    taken,
)
from nicelevel.store.arrivals import (
    again,
    begin_arrival,
    end_arrival,
    find_arrival,
    keep_files,
    latest_counted,
    save_arrival,
)
from nicelevel.store.database import database, persistently
from nicelevel.store.lines import settings_of
from nicelevel.store.models import Arrival

from .telling import enqueue_telling
from .trying import Call, PassingError, ending, task

logger = logging.getLogger("nicelevel.work")

ARRIVAL_PRIORITY = 20
"""Before everything that somebody at a desk waits for: it is on air by the clock."""


PASSING = ("no_space", "no_permission", "never_ended")
"""Codes of what says nothing of a file: what is held for one of them is done again by itself, and told once."""

FOR_NOTHING = {"expected_at": None, "is_late": False}
"""What has gone, or is the same as what is on air, takes no expected time from what is still to come."""


class Course:
    """What happens to an arrival, each with when: seconds since 1970, a word for its kind, and a sentence."""

    def __init__(self, told: list[Any], clock: Clock) -> None:
        self.told, self._clock = list(told), clock

    def say(self, sentence: str, kind: str = "") -> None:
        self.told.append(self.line(sentence, kind))

    def line(self, sentence: str, kind: str = "") -> list[Any]:
        """What happens now, to be kept with others."""
        return [round(self._clock.now_s(), 1), kind, sentence]


def _give_up(config: Config, code: str, sentence: str, arrival_id: int) -> None:
    arrival = find_arrival(arrival_id)
    if arrival and end_arrival(arrival, code, sentence):
        _tell_held(arrival, settings_of(arrival.line), sentence)


@task(_give_up)
def handle_arrival(call: Call, arrival_id: int) -> None:
    """Publish what came, or hold it with its reason."""
    arrival = find_arrival(arrival_id)
    if arrival is None or not begin_arrival(arrival):
        return
    settings, clock = settings_of(arrival.line), _clock_of(arrival, call.config)
    course, kept = Course(arrival.told, clock), kept_of(arrival, call.config.arrivals_folder)
    is_again = call.attempts > 0 or bool(arrival.files)

    def hold(code: str, sentence: str) -> bool:
        return _held(arrival, settings, course, clock, code, sentence)

    def put_back() -> bool:
        return save_arrival(arrival, "whole")

    with ending(call, hold, put_back, can_pass=True):
        refuse_outside(settings, call.config.line_bounds)
        try:
            found = taken(arrival, settings, kept)
        except LostError as error:
            _gone(arrival, course, clock, kept, error.message)
            return
        if found is None:
            _gone(arrival, course, clock, kept, "written again while it was read: it settles anew")
            return
        copy, name = found
        if not arrival.files:
            # From now on it is done from the copy, whatever becomes of the file: also by the try after this one.
            keep_files(arrival, {"came": name})
        try:
            outcome = handled(arrival, settings, copy, is_again, course.say)
        except OutputExistsError as error:
            if persistently(put_back):
                raise PassingError(error.message) from error
            return
        _end(arrival, settings, course, clock, kept, name, outcome)


def _gone(arrival: Arrival, course: Course, clock: Clock, kept: Kept, sentence: str) -> None:
    """The very same file may come back, and is another arrival then."""
    course.say(sentence)
    shutil.rmtree(kept.folder, ignore_errors=True)
    _save(
        arrival, "gone", told=course.told, finished_at=clock.now(), mark=f"{arrival.mark} {arrival.id}", **FOR_NOTHING
    )


def _clock_of(arrival: Arrival, config: Config) -> Clock:
    """The demo's day is told by the times that it pretends."""
    is_demo = arrival.mark.startswith(DEMO)
    return Clock(arrival.arrived_at.timestamp(), time.time()) if is_demo else clock_of(config.arrivals_clock)


def _end(
    arrival: Arrival,
    settings: LineSettings,
    course: Course,
    clock: Clock,
    kept: Kept,
    name: str,
    outcome: Outcome | None,
) -> None:
    if outcome is None:
        course.say("the same as what is on air: nothing to do")
        _save(arrival, "same", told=course.told, finished_at=clock.now(), files={"came": name}, **FOR_NOTHING)
        return
    columns = {"figures": figures_of(outcome), "files": {"came": name}}
    if outcome.error:
        _held(arrival, settings, course, clock, outcome.error.code, outcome.error.message, **columns)
        return
    if not settings.spec:
        course.say("looked at, not published")
        _save(arrival, "noted", told=course.told, finished_at=clock.now(), **columns)
        return
    columns["files"]["out"] = kept.keep(outcome.published[0], "out")
    _published(arrival, settings, course, clock, outcome, **columns)


def _published(
    arrival: Arrival, settings: LineSettings, course: Course, clock: Clock, outcome: Outcome, **columns: Any
) -> None:
    publish = Path(settings.publish)
    names = [str(each.relative_to(publish)) for each in outcome.published]
    course.say(f"proved, and published as {', '.join(names)}", "good")
    if said := put_away(arrival, settings):
        course.say(said)
    logger.info("%s: %s is published as %s", settings.name, arrival.name, ", ".join(names))
    under = str(Path(names[0]).with_suffix(""))
    was_held = _was_held(arrival)

    def save() -> bool:
        with database.atomic():
            ended = {"told": course.told, "finished_at": clock.now(), "published": names, "under": under}
            if not save_arrival(arrival, "published", **ended, **columns):
                return False
            if was_held or arrival.is_late:
                words = "is on air again" if was_held else "came late and is on air"
                _tell(arrival, settings, "published", f"{settings.name}: {arrival.name} {words}.")
            return True

    if not persistently(save):
        raise StoppedError("Stopped.")


def _held(
    arrival: Arrival,
    settings: LineSettings,
    course: Course,
    clock: Clock,
    code: str,
    sentence: str,
    **columns: Any,
) -> bool:
    if arrival.published:
        # It is on air since it was done before; that it would be held now changes nothing of that.
        told = [*course.told, course.line(f"{sentence} What was published of it stays.", "bad")]
        return save_arrival(arrival, "published", told=told, finished_at=arrival.finished_at)
    said = f"{sentence} Held back."
    if code in PASSING and any(words == said for _, _, words in arrival.told):
        still = {"told": arrival.told, "finished_at": clock.now(), "error_code": code, "error_message": sentence}
        return save_arrival(arrival, "held", **still, **columns)
    logger.warning("%s: %s is held back: %s", settings.name, arrival.name, sentence)
    stays = stays_on_air(arrival, settings)
    told = [*course.told, course.line(said, "bad"), *([course.line(stays)] if stays else [])]
    with database.atomic():
        ended = {"told": told, "finished_at": clock.now(), "error_code": code, "error_message": sentence}
        if not save_arrival(arrival, "held", **ended, **columns):
            return False
        _tell_held(arrival, settings, sentence)
        return True


def _was_held(arrival: Arrival) -> bool:
    """Whether what came before it was held: then people wait to hear that all is well again."""
    before = latest_counted(arrival.line_id, arrival.arrived_at, 1)
    return bool(before) and before[-1].state == "held"


def _tell_held(arrival: Arrival, settings: LineSettings, sentence: str) -> None:
    _tell(arrival, settings, "held", f"{settings.name}: {arrival.name} is held back. {sentence}")


def _tell(arrival: Arrival, settings: LineSettings, kind: str, sentence: str) -> None:
    told = {"line": settings.name, "kind": kind, "file": arrival.name, "sentence": sentence}
    when = {"arrived_at": arrival.arrived_at.isoformat(), "arrival": arrival.id}
    enqueue_telling(arrival.line_id, arrival.id, settings.hook, told | when)


def _save(arrival: Arrival, state: str, **columns: Any) -> None:
    if not persistently(partial(save_arrival, arrival, state, **columns)):
        raise StoppedError("Stopped.")


def enqueue_arrival(arrival: Arrival, priority: int = ARRIVAL_PRIORITY) -> None:
    """Have an arrival taken through its line: one after the other, so that the later one is on air."""
    task = handle_arrival.configure(
        connection=database.connection(), priority=priority, lock=f"line {arrival.line_id}"
    )
    task.defer(arrival_id=arrival.id)


def do_again(arrival: Arrival, is_forced: bool, clock: Clock, by_itself: bool = False) -> bool:
    """Have an arrival done once more, or published all the same; False where it is under way. by_itself: nobody asked
    for it, so nothing is said of it.
    """
    course = Course(arrival.told, clock)
    if not by_itself:
        course.say("to be published all the same" if is_forced else "to be done again")
    with database.atomic():
        if not again(arrival, is_forced, course.told):
            return False
        enqueue_arrival(arrival)
        return True
