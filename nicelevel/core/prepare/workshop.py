"""The prepared signals of one file, measured when they are first asked for; nothing is left behind."""

import tempfile
from pathlib import Path
from types import TracebackType

from ..files import take_in
from ..progress import Progress
from ..values import Preparation, Source
from .prepared import Prepared, prepare

MOST_KEPT_BYTES = 216_000_000
"""Of signals that were resampled or folded down and are still to be written: ten minutes of 44.1 kHz in stereo."""


class Workshop:
    """A context manager. Hops are kept only where a limiter may be asked for."""

    def __init__(self, path: Path, with_hops: bool, progress: Progress | None = None) -> None:
        self._path, self._with_hops, self._progress = path, with_hops, progress
        self._folder = tempfile.TemporaryDirectory(prefix="nice-level-")
        self._made: dict[Preparation, Prepared] = {}

    def source(self) -> Source:
        """The file as its header describes it."""
        with take_in(self._path) as audio:
            return audio.source

    def find(self, preparation: Preparation) -> Prepared:
        """The prepared signal with its reading. Raises the NiceLevelError named for the cause."""
        if preparation not in self._made:
            folder, room_bytes = self._hops_folder(), MOST_KEPT_BYTES - self._kept_bytes()
            self._made[preparation] = prepare(self._path, preparation, folder, self._progress, room_bytes)
        return self._made[preparation]

    def _kept_bytes(self) -> int:
        return sum(made.kept.nbytes for made in self._made.values() if made.kept is not None)

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
