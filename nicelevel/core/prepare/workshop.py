"""The prepared signals of one file, measured when they are first asked for; nothing is left behind."""

import tempfile
import threading
from dataclasses import replace
from functools import cached_property, partial
from pathlib import Path
from types import TracebackType

from ..files import take_in
from ..measure.hop_files import Hops, open_hops
from ..progress import Progress
from ..scratch import ScratchFolder
from ..signals.kept import bytes_of
from ..steps import Chain, Found, FoundOf, Recipe, Step, listen, resolve
from ..steps.chain import with_recipe
from ..values import Reading, Source
from .measured import Measured, bytes_to_keep, hops_of_kept, prepare

READ_AGAIN_BYTES = 216_000_000
"""A file is soon read a second time where it is no larger: ten minutes of 44.1 kHz in stereo, 32 bit."""


class Workshop:
    """A context manager. recipe: steps that are done to the file before all that is asked for.

    found_of: gives what steps find, None to listen to the file itself.

    Hops are measured only where a limiter may be asked for, and not before it is where they are
    soon measured afterwards; signals are kept where there is room.
    """

    def __init__(
        self,
        path: Path,
        with_hops: bool,
        progress: Progress | None = None,
        most_kept_bytes: int = 0,
        recipe: Recipe = (),
        found_of: FoundOf | None = None,
    ) -> None:
        self.path, self.recipe = path, recipe
        self._with_hops, self._progress = with_hops, progress
        self._found_of = found_of or listen(path)
        self._room_bytes = most_kept_bytes
        self._folder = ScratchFolder()
        self._chains: dict[Recipe, Chain] = {}
        self._found: dict[Recipe, Found] = {}
        self._made: dict[Chain, Measured] = {}
        self._hops: dict[Chain, Hops] = {}
        self._making = threading.Lock()  # the leader of a set is asked by all of its members

    def source(self) -> Source:
        """The file as its header describes it, after its recipe. Raises as the recipe's steps do."""
        with self._making:
            return with_recipe(self._described[0], self._chain(self.recipe))

    def chain(self) -> Chain:
        """What the recipe comes to here."""
        with self._making:
            return self._chain(self.recipe)

    @cached_property
    def _described(self) -> tuple[Source, int | None]:
        """The file by its header, read once; and what it takes in memory, None where it is to be decoded."""
        with take_in(self.path) as audio:
            return audio.source, None if audio.is_coded else bytes_of(audio.shape, audio.coding)

    def measured(self, recipe: Recipe) -> Measured:
        """What a recipe makes of the file, measured. Raises the NiceLevelError named for the cause."""
        with self._making:
            return self._measured(self._chain(recipe))

    def _chain(self, recipe: Recipe) -> Chain:
        """Resolved; what steps must hear they hear now, once."""
        if recipe not in self._chains:
            self._chains[recipe] = resolve(self._described[0].shape, recipe, self._heard)
        return self._chains[recipe]

    def _heard(self, chain: Chain, step: Step) -> Found:
        """What a step finds, once for all chains that begin alike."""
        key = (*chain.recipe, step)
        if key not in self._found:
            self._found[key] = self._found_of(chain, step)
        return self._found[key]

    def _measured(self, chain: Chain) -> Measured:
        if chain not in self._made:
            can_wait = self._with_hops and self._can_hops_wait(chain)
            folder = self._new_folder() if self._with_hops and not can_wait else None
            made = prepare(self.path, chain, folder, self._progress, self._room_bytes)
            self._room_bytes -= 0 if made.kept is None else made.kept.codes.nbytes
            later = partial(self._hops_of, chain) if can_wait else None
            self._made[chain] = replace(made, measure_hops=later)
        return self._made[chain]

    def _can_hops_wait(self, chain: Chain) -> bool:
        """Whether they are soon measured afterwards: of a signal that is kept, or a file that is as it is needed."""
        source, bytes_as_read = self._described
        if chain.is_nothing:
            return bytes_as_read is not None and bytes_as_read <= READ_AGAIN_BYTES
        return bytes_to_keep(chain, source) <= self._room_bytes

    def _hops_of(self, chain: Chain) -> Hops:
        with self._making:
            if chain not in self._hops:
                made, folder = self._made[chain], self._new_folder()
                if made.kept is None:
                    prepare(self.path, chain, folder)
                self._hops[chain] = hops_of_kept(made, folder) if made.kept else open_hops(folder)
            return self._hops[chain]

    def let_go(self) -> None:
        """Free the memory of the signals that were kept, and keep no more: what is asked for again is made again."""
        self._room_bytes = 0
        self._made = {chain: replace(made, kept=None) for chain, made in self._made.items()}

    def _new_folder(self) -> Path:
        return Path(tempfile.mkdtemp(dir=self._folder.name))

    def __enter__(self) -> "Workshop":
        return self

    def __exit__(self, kind: type | None, error: BaseException | None, trace: TracebackType | None) -> None:
        self._folder.cleanup()


def as_its_file(workshop: Workshop) -> Reading:
    """The reading of what a recipe makes of a file, said of that file: its container, encoding and size stay."""
    source, measured = workshop.source(), workshop.measured(workshop.recipe)
    return replace(measured.reading, source=source)
