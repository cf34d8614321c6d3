"""The prepared signals of one file, measured when they are first asked for; nothing is left behind."""

import threading
from dataclasses import replace
from pathlib import Path
from types import TracebackType

from ..files import take_in
from ..progress import Progress
from ..scratch import ScratchFolder
from ..values import Preparation, Source
from .prepared import Prepared, prepare


class Workshop:
    """A context manager. Hops are kept only where a limiter may be asked for, signals where there is room."""

    def __init__(
        self, path: Path, with_hops: bool, progress: Progress | None = None, most_kept_bytes: int = 0
    ) -> None:
        self._path, self._with_hops, self._progress = path, with_hops, progress
        self._room_bytes = most_kept_bytes
        self._folder = ScratchFolder()
        self._made: dict[Preparation, Prepared] = {}
        self._making = threading.Lock()  # the leader of a set is asked by all of its members

    def source(self) -> Source:
        """The file as its header describes it."""
        with take_in(self._path) as audio:
            return audio.source

    def find(self, preparation: Preparation) -> Prepared:
        """The prepared signal with its reading. Raises the NiceLevelError named for the cause."""
        with self._making:
            return self._find(preparation)

    def _find(self, preparation: Preparation) -> Prepared:
        if preparation not in self._made:
            made = prepare(self._path, preparation, self._hops_folder(), self._progress, self._room_bytes)
            self._room_bytes -= 0 if made.kept is None else made.kept.codes.nbytes
            self._made[preparation] = made
        return self._made[preparation]

    def let_go(self) -> None:
        """Free the memory of the signals that were kept, and keep no more: what is asked for again is made again."""
        self._room_bytes = 0
        self._made = {preparation: replace(made, kept=None) for preparation, made in self._made.items()}

    def _hops_folder(self) -> Path | None:
        if not self._with_hops:
            return None
        folder = Path(self._folder.name) / str(len(self._made))
        folder.mkdir(exist_ok=True)
        return folder

    def __enter__(self) -> "Workshop":
        return self

    def __exit__(self, kind: type | None, error: BaseException | None, trace: TracebackType | None) -> None:
        self._folder.cleanup()
