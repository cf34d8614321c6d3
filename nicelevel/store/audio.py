"""The folder of audio: each file under the digest of its contents, the curves of its reading beside it."""

import errno
import itertools
import os
import shutil
import tempfile
import time
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from dataclasses import dataclass, fields
from pathlib import Path

import numpy as np

from nicelevel.core.values import Curves

DECODED = "decoded.wav"


UNFINISHED, FORGOTTEN_S = ".making-", 24 * 3600.0
"""What a worker is writing lies in a folder of its own, whose name begins so; after a day nobody is writing there."""


@dataclass(frozen=True)
class AudioFolder:
    """Content-addressed: what is there never changes, the same file twice is kept once."""

    folder: Path

    def audio_path(self, digest: str) -> Path:
        return self._home(digest) / "audio"

    def adopt(self, upload: Path, digest: str) -> Path:
        """Move an upload to its place, read-only; where the same contents are there already, drop it."""
        path = self.audio_path(digest)
        path.parent.mkdir(parents=True, exist_ok=True)
        if path.exists():
            upload.unlink()
            return path
        upload.chmod(0o444)
        os.replace(upload, path)
        return path

    def save_curves(self, digest: str, curves: Curves) -> None:
        """Write the curves, each whole or not at all."""
        with self._making(digest) as folder:
            for name, array in vars(curves).items():
                np.save(folder / f"{name}.npy", array)
                os.replace(folder / f"{name}.npy", self._home(digest) / f"{name}.npy")

    def load_curves(self, digest: str) -> Curves:
        return Curves(**{field.name: np.load(self._home(digest) / f"{field.name}.npy") for field in fields(Curves)})

    @contextmanager
    def keeping_hops(self, digest: str) -> Iterator[Path]:
        """A folder to write what is kept of every hop; it takes its place when the block ends well, or is gone."""
        place = self.hops_folder(digest)
        with self._making(digest) as folder:
            part = folder / "made"
            part.mkdir()
            yield part
            _put_in_place(part, place, folder)

    @contextmanager
    def _making(self, digest: str) -> Iterator[Path]:
        """A folder beside the audio that is gone afterwards. The same contents may be measured twice at once."""
        self._home(digest).mkdir(parents=True, exist_ok=True)
        with tempfile.TemporaryDirectory(prefix=UNFINISHED, dir=self._home(digest)) as folder:
            yield Path(folder)

    def sweep(self) -> None:
        """Remove what workers left that were killed while they wrote."""
        for left in self.folder.glob(f"*/*/{UNFINISHED}*"):
            if time.time() - left.stat().st_mtime > FORGOTTEN_S:
                shutil.rmtree(left, ignore_errors=True)

    def hops_folder(self, digest: str) -> Path:
        return self._home(digest) / "hops"

    def playable_path(self, digest: str) -> Path:
        """The audio, or what was decoded of it where it cannot be read from anywhere but its start."""
        decoded = self.hops_folder(digest) / DECODED
        return decoded if decoded.exists() else self.audio_path(digest)

    def _home(self, digest: str) -> Path:
        return self.folder / digest[:2] / digest


def _put_in_place(made: Path, place: Path, aside: Path) -> None:
    """Let a folder take its place, whoever else has taken it before or takes it meanwhile."""
    for number in itertools.count():
        try:
            os.replace(made, place)
            return
        except OSError as error:
            if error.errno not in (errno.ENOTEMPTY, errno.EEXIST):
                raise
        with suppress(FileNotFoundError):
            os.replace(place, aside / f"before-{number}")
