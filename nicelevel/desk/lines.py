"""What is done for a line: what it comes to of spec and recipe, what becomes of an arrival, who is told."""

import shutil
from collections.abc import Callable, Sequence
from contextlib import suppress
from dataclasses import dataclass, replace
from datetime import datetime
from pathlib import Path
from typing import Any

import numpy as np

from nicelevel.core.arrivals import Arrival as Came
from nicelevel.core.arrivals import Line as Working
from nicelevel.core.arrivals import LineSettings, Outcome, open_line
from nicelevel.core.arrivals.line import Terms
from nicelevel.core.arrivals.memory import Memory, has_before
from nicelevel.core.arrivals.settling import Mark, mark_of
from nicelevel.core.clock import Clock
from nicelevel.core.errors import LostError, NiceLevelError, SpecError
from nicelevel.core.files.staged import speaking_errors
from nicelevel.core.measure import measure
from nicelevel.core.values import Reading
from nicelevel.core.words import listed
from nicelevel.store.arrivals import on_air, published_under, say_published
from nicelevel.store.depot import bring
from nicelevel.store.depot import keep as keep_there
from nicelevel.store.lines import settings_of
from nicelevel.store.models import Arrival, Line
from nicelevel.store.recipes import find_recipe
from nicelevel.store.specs import newest_version, spec_of

COLUMNS = 300
"""Of a waveform that is kept of what came and of what was made."""

STAND_IN, MISSING, DEMO = "stand-in ", "missing ", "demo "
"""What the marks of those begin with that did not come by themselves."""

Tell = Callable[[str], None]


def mark_text(mark: Mark) -> str:
    return "-".join(map(str, mark))


def refuse_outside(settings: LineSettings, bounds: Sequence[Path] | None) -> None:
    """Raises SpecError where a line would leave these folders, also by links of the system; None is anywhere."""
    for key in ("folder", "publish", "hold", "moved_to", "stand_in"):
        told = getattr(settings, key)
        if bounds is None or not told:
            continue
        path = Path(told).resolve()
        if not any(path.is_relative_to(each) for each in bounds):
            inside = f"Lines stay inside {listed([str(each) for each in bounds])}." if bounds else "None is set yet."
            raise SpecError(
                f"{told} is none of the folders that lines may be in (NICE_LEVEL_LINE_FOLDERS). {inside}", key
            )


@dataclass(frozen=True)
class Kept:
    """The folder of one arrival, with what came and what was made of it."""

    folder: Path

    def keep(self, path: Path, role: str) -> str:
        """Copy a file there, whole or not at all; its name."""
        name = f"{role}/{role}{path.suffix.lower()}"
        part = self.folder / f"{role}/.part"
        with speaking_errors(path):
            part.parent.mkdir(parents=True, exist_ok=True)
            shutil.copyfile(path, part)
            part.replace(self.folder / name)
        keep_there(self.folder / name)
        return name

    def path(self, name: str | None) -> Path | None:
        found = bring(self.folder / name) if name else None
        return found if found and found.is_file() else None


def kept_of(arrival: Arrival, folder: Path) -> Kept:
    """folder: of all that is kept of arrivals."""
    return Kept(folder / str(arrival.id))


def path_of(arrival: Arrival, settings: LineSettings) -> Path:
    """The file as it came."""
    if arrival.mark.startswith(STAND_IN):
        return Path(settings.stand_in)
    return Path(settings.folder) / arrival.name


def taken(arrival: Arrival, settings: LineSettings, kept: Kept) -> tuple[Path, str] | None:
    """A copy of what came, kept from the first try on, and its name; None where it changed meanwhile.

    Raises LostError where it has gone and no copy is there.
    """
    if there := kept.path(arrival.files.get("came")):
        return there, arrival.files["came"]
    path = path_of(arrival, settings)
    if not path.is_file():
        raise LostError(f"{path.name} is not there any more.")
    name = kept.keep(path, "came")
    mark = mark_of(path)
    is_stand_in = arrival.mark.startswith(STAND_IN)
    if not is_stand_in and (mark is None or mark_text(mark) != arrival.mark):
        return None
    return kept.folder / name, name


def handled(arrival: Arrival, settings: LineSettings, copy: Path, is_again: bool, tell: Tell) -> Outcome | None:
    """Publish it or hold it; None where what it holds is on air under its name. is_again: whatever was done before.

    Raises OutputExistsError where another process has the folder, NoSpaceError where the disk is full.
    """
    mark = mark_of(copy)
    title = f"{Path(arrival.name).stem}{copy.suffix}"
    came = Came(copy, mark or (0, 0, 0), str(Path(arrival.name).with_name(title)), is_copy=True)
    if not settings.spec:
        return _looked_at(copy)
    try:
        recipe = find_recipe(settings.recipe).recipe.steps if settings.recipe else ()
        spec = spec_of(newest_version(settings.spec))
    except NiceLevelError as error:
        return Outcome(copy, error=error)
    # What was held before has its copy there already.
    was_held = any(kind == "bad" for _, kind, _ in arrival.told)
    hold = Path(settings.hold) if settings.hold and not was_held else None
    publish = Path(settings.publish)
    with speaking_errors(publish):
        publish.mkdir(parents=True, exist_ok=True)
    line = open_line(spec, recipe, publish, settings.under, hold)
    try:
        terms = Terms(settings.shortest_s, settings.longest_s, arrival.is_forced, is_again or arrival.is_forced)
        return _working(line, arrival, terms, tell).handle(came)
    finally:
        line.memory.close()


def _working(line: Working, arrival: Arrival, terms: Terms, tell: Tell) -> Working:
    def then() -> datetime:
        # By when it came, so that a second try publishes under the same name.
        return datetime.fromtimestamp(arrival.arrived_at.timestamp())

    return replace(line, now=then, terms=terms, tell=tell, listens=True)


def _looked_at(copy: Path) -> Outcome:
    try:
        return Outcome(copy, came=measure(copy))
    except NiceLevelError as error:
        return Outcome(copy, error=error)


def figures_of(outcome: Outcome) -> dict[str, Any]:
    """What is kept to be shown: of what came and of what was made, and how deep it was limited."""
    found: dict[str, Any] = {"sha256": outcome.came_sha256}
    if outcome.came:
        found["came"] = _side(outcome.came)
    if outcome.prepared:
        found["made"] = _side(outcome.prepared)
    if outcome.made:
        made = outcome.made[0]
        found["made"] = _side(made.proof.reading)
        found["out_sha256"] = outcome.sha256
        found["limiting_db"] = round(made.plan.limiting_db, 2)
        found["gain_db"] = round(made.plan.gain_db, 2)
    return found


def _side(reading: Reading) -> dict[str, Any]:
    lufs, peak = reading.integrated_lufs, reading.true_peak_dbtp
    return {
        "lufs": None if np.isinf(lufs) else round(lufs, 2),
        "dbtp": None if np.isinf(peak) else round(peak, 2),
        "length_s": round(reading.source.duration_s, 3),
        "rate_hz": reading.source.sample_rate_hz,
        "layout": reading.source.layout.name,
        "wave": _wave(reading),
        "silence_tail_s": round(reading.silence_tail_s, 2),
    }


def _wave(reading: Reading) -> list[float]:
    """The highest sample in each of so many equal stretches."""
    peaks = reading.curves.peaks
    if not len(peaks):
        return []
    edges = np.linspace(0, len(peaks), min(COLUMNS, len(peaks)) + 1).astype(int)
    return [round(float(each), 4) for each in np.maximum.reduceat(peaks, edges[:-1])]


def stays_on_air(arrival: Arrival, settings: LineSettings) -> str:
    """What is on air while an arrival is held, in a sentence; empty where nothing is."""
    if not settings.spec:
        return ""
    latest = max(on_air(arrival.line_id).values(), key=lambda each: each.finished_at, default=None)
    if latest is None:
        return "nothing was published before it"
    return f"{latest.name} of {latest.arrived_at.astimezone():%H:%M} stays on air, nothing was written over it"


def put_away(arrival: Arrival, settings: LineSettings) -> str:
    """Do with an arrival that is published what its line says; what was done, empty where it stays.

    Only the very file that was taken: what has been written there since is another arrival.
    """
    path = path_of(arrival, settings)
    mark = mark_of(path)
    if settings.afterwards == "leave" or mark is None or mark_text(mark) != arrival.mark:
        return ""
    with suppress(OSError):
        if settings.afterwards == "delete":
            path.unlink()
            return f"{path.name} was deleted"
        to = Path(settings.moved_to) / f"{arrival.arrived_at.astimezone():%Y-%m-%d %H%M%S} {path.name}"
        to.parent.mkdir(parents=True, exist_ok=True)
        shutil.move(path, to)
        return f"{path.name} was put away as {to.name}"
    return f"{path.name} could not be put away"


def can_put_back(settings: LineSettings, under: str) -> bool:
    """Whether what was published under a name before could be on air again; told without holding the folder."""
    return bool(settings.publish) and has_before(Path(settings.publish), under)


def put_back(line: Line, under: str, clock: Clock) -> str:
    """Publish once more what was there before under a name; what that came of.

    Raises NotFoundError where nothing is kept, OutputExistsError where something is being published.
    """
    settings = settings_of(line)
    memory = Memory(Path(settings.publish))
    try:
        came = memory.known.before.get(under, {})
        memory.put_back(under)
    finally:
        memory.close()
    earlier = published_under(line.id, under)
    back = next((each for each in earlier if each.figures.get("sha256") == came["sha256"]), None)
    if back is not None:
        told = [*back.told, [round(clock.now_s(), 1), "good", "put back on air"]]
        say_published(back, told, clock.now())
    return str(back.name if back else came["of"])
