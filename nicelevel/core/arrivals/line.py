"""A line: from an arrival to what is published under one name, or to what is held with its reason."""

import filecmp
import shutil
from collections.abc import Callable
from dataclasses import dataclass, field
from datetime import datetime
from pathlib import Path, PurePath

from ..digest import sha256_of
from ..errors import CannotMeetError, DamagedError, LengthError, NiceLevelError, NotFoundError, SpecError
from ..files import StagedFile
from ..files.staged import speaking_errors
from ..measure import measure
from ..prepare import Workshop
from ..process import bring, workshop_for
from ..specs import Spec
from ..steps import Recipe
from ..values import Deliverable, Reading
from ..words import clock_time
from .memory import Memory
from .settling import Arrival, mark_of
from .under import published_name, refuse_name

MOST_HELD = 10_000


def _nobody(_: str) -> None:
    """What is told goes nowhere."""


@dataclass(frozen=True)
class Outcome:
    """What became of an arrival: published under names, or not, for a reason; held: the copy that was put aside.

    came_sha256, came, prepared, made: of what came, as it came, what its recipe left where that was refused, and what
    was made of it, as far as that went.
    """

    path: Path
    published: tuple[Path, ...] = ()
    sha256: str | None = None
    error: NiceLevelError | None = None
    held: Path | None = None
    came_sha256: str | None = None
    came: Reading | None = None
    prepared: Reading | None = None
    made: tuple[Deliverable, ...] = ()


@dataclass(frozen=True)
class Terms:
    """What must hold of what is left once it is prepared; 0 for any length. is_forced: published whatever it is like;
    is_again: also where its contents are what is published.
    """

    shortest_s: float = 0.0
    longest_s: float = 0.0
    is_forced: bool = False
    is_again: bool = False


@dataclass
class _Done:
    """How far an arrival came."""

    sha256: str | None = None
    came: Reading | None = None
    prepared: Reading | None = None
    made: list[Deliverable] = field(default_factory=list)


@dataclass(frozen=True)
class Line:
    """name: with FIELDS in braces, without extension; hold: where what fails is copied to, None for nowhere.

    tell: gets sentences of what happens, as it happens; listens: whether what came is measured too.
    """

    spec: Spec
    recipe: Recipe
    publish: Path
    memory: Memory
    name: str = "{title}"
    hold: Path | None = None
    now: Callable[[], datetime] = datetime.now
    terms: Terms = Terms()
    tell: Callable[[str], None] = _nobody
    listens: bool = False

    def is_done(self, arrival: Arrival) -> bool:
        """Whether this very file was handled before."""
        return self.memory.was_handled(arrival.name, arrival.mark)

    def handle(self, arrival: Arrival) -> Outcome | None:
        """Publish an arrival or hold it; None where there is nothing to do: it changed meanwhile and comes again, or
        what it holds is what is published. Where the disk is full it is neither: raises NoSpaceError.
        """
        room = self.memory.room()
        try:
            return self._handle(arrival, room)
        finally:
            self.memory.leave(room)

    def _handle(self, arrival: Arrival, room: Path) -> Outcome | None:
        name, copy = arrival.name, room / PurePath(arrival.name).name
        done = _Done()
        try:
            with speaking_errors(copy):
                shutil.copyfile(arrival.path, copy)
            if mark_of(arrival.path) != arrival.mark:
                return None  # written again while it was read: it settles anew
            if arrival.why is not None and not self.terms.is_forced:
                raise arrival.why
            digest = done.sha256 = sha256_of(copy)
            target = published_name(self.name, PurePath(name).stem, self.now())
            if not self.terms.is_again and self.memory.is_published(target, name, digest):
                self._done(arrival)
                return None
            self._make(copy, room, done)
            files = self._named(done.made, target)
        except NiceLevelError as error:
            if error.code == "no_space" or mark_of(arrival.path) is None:
                return self._put_off(error)
            held = self._held(copy, error)
            self._done(arrival)
            return Outcome(
                arrival.path, (), None, error, held, done.sha256, done.came, done.prepared, tuple(done.made)
            )
        mark = None if arrival.is_copy else arrival.mark
        published = self.memory.publish(target, files, name, mark, digest)
        proved = done.made[0].proof.sha256
        return Outcome(arrival.path, tuple(published), proved, None, None, digest, done.came, None, tuple(done.made))

    @staticmethod
    def _put_off(error: NiceLevelError) -> None:
        """What says nothing of the file is no outcome: it has gone, or comes again. Raises where the disk is full."""
        if error.code == "no_space":
            raise error

    def _make(self, copy: Path, room: Path, done: _Done) -> None:
        """Prepared, levelled, proved. Raises CannotMeetError where the proof says that it misses, LengthError where
        what is left is shorter or longer than what is sensible.
        """
        try:
            done.came = measure(copy) if self.listens else None
            with workshop_for(copy, self.spec, self.recipe) as workshop:
                if self.recipe:
                    self.tell(f"prepared: {len(self.recipe)} step{'' if len(self.recipe) == 1 else 's'}")
                self._refuse_length(workshop, done)
                done.made = bring(workshop, self.spec, room / "made")
        except NiceLevelError:
            raise
        except Exception as error:
            raise DamagedError(f"The file could not be worked on: {error or type(error).__name__}.") from error
        for each in done.made:
            if not each.proof.verdict.meets and not self.terms.is_forced:
                missed = [finding.text for finding in each.proof.verdict.findings if not finding.meets]
                raise CannotMeetError(f"What was written misses its spec: {'; '.join(missed)}.")

    def _refuse_length(self, workshop: Workshop, done: _Done) -> None:
        terms, left_s = self.terms, workshop.source().duration_s
        if terms.is_forced or terms.shortest_s <= left_s <= (terms.longest_s or left_s):
            return
        # What is left is looked at, for whoever asks what became of it.
        done.prepared = workshop.measured(self.recipe).reading if self.listens else None
        if left_s < terms.shortest_s:
            least = clock_time(terms.shortest_s)
            raise LengthError(f"Only {clock_time(left_s)} of sound is left; the shortest allowed is {least}.")
        most = clock_time(terms.longest_s)
        raise LengthError(f"{clock_time(left_s)} of sound is left; the longest allowed is {most}.")

    def _named(self, made: list[Deliverable], target: str) -> dict[Path, str]:
        files = {each.path: f"{target}{each.path.suffix}" for each in made}
        if len(set(files.values())) < len(files):
            raise SpecError("Two formats of the spec would be published under one name.")
        return files

    def _held(self, copy: Path, error: NiceLevelError) -> Path | None:
        """A copy with its reason beside it; numbered where the name is taken."""
        if self.hold is None or not copy.exists():
            return None
        said = f"{error.code}: {error.message}\n".encode()
        with speaking_errors(self.hold):
            self.hold.mkdir(parents=True, exist_ok=True)
            final = _place_to_hold(self.hold, copy, said)
        _put(final, lambda to: shutil.copyfile(copy, to))
        _put(_reason_of(final), lambda to: to.write_bytes(said))
        return final

    def _done(self, arrival: Arrival) -> None:
        if not arrival.is_copy:
            self.memory.keep_handled(arrival.name, arrival.mark, arrival.folder)


def _place_to_hold(hold: Path, copy: Path, said: bytes) -> Path:
    """The name that a file is to be held under: the first that is free, or the one that this file is held under for
    this reason already, for a line that is killed before it has noted that does it again.

    Raises NotFoundError where there are MOST_HELD of that name.
    """
    for number in range(1, MOST_HELD):
        numbered = copy.name if number == 1 else f"{copy.stem} {number}{copy.suffix}"
        final = hold / numbered
        reason = _reason_of(final)
        is_free = not final.exists() or filecmp.cmp(copy, final, shallow=False)
        if is_free and (not reason.exists() or (reason.is_file() and reason.read_bytes() == said)):
            return final
    raise NotFoundError(f"{hold} holds too many of that name.")


def _reason_of(held: Path) -> Path:
    return held.with_name(f"{held.name}.txt")


def _put(path: Path, put: Callable[[Path], object]) -> None:
    """Make a file whole or not at all, unless it is there."""
    if path.exists():
        return
    staged = StagedFile(path)
    try:
        with speaking_errors(path):
            put(staged.path)
        staged.publish()
    finally:
        staged.discard()


def open_line(spec: Spec, recipe: Recipe, publish: Path, name: str, hold: Path | None) -> Line:
    """A line over a folder; what a killed one left is finished or swept.

    Raises SpecError where the name has other fields than FIELDS, OutputExistsError where another line has the folder.
    """
    refuse_name(name)
    return Line(spec, recipe, publish, Memory(publish), name, hold)
