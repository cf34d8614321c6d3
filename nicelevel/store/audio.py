"""The folder of audio: each file under the digest of its contents, the curves of its reading beside it."""

import os
import shutil
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass, fields
from pathlib import Path

import numpy as np

from nicelevel.core.values import Curves

DECODED = "decoded.wav"


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
        for name, array in vars(curves).items():
            path = self._home(digest) / f"{name}.npy"
            part = path.with_name(f".{name}.{os.getpid()}.part")
            with part.open("wb") as file:
                np.save(file, array)
            os.replace(part, path)

    def load_curves(self, digest: str) -> Curves:
        return Curves(**{field.name: np.load(self._home(digest) / f"{field.name}.npy") for field in fields(Curves)})

    @contextmanager
    def keeping_hops(self, digest: str) -> Iterator[Path]:
        """A folder to write what is kept of every hop; it takes its place when the block ends well, or is gone."""
        place = self.hops_folder(digest)
        part = place.with_name(f".hops.{os.getpid()}.part")
        shutil.rmtree(part, ignore_errors=True)
        part.mkdir(parents=True)
        try:
            yield part
            shutil.rmtree(place, ignore_errors=True)
            os.replace(part, place)
        finally:
            shutil.rmtree(part, ignore_errors=True)

    def hops_folder(self, digest: str) -> Path:
        return self._home(digest) / "hops"

    def playable_path(self, digest: str) -> Path:
        """The audio, or what was decoded of it where it cannot be read from anywhere but its start."""
        decoded = self.hops_folder(digest) / DECODED
        return decoded if decoded.exists() else self.audio_path(digest)

    def _home(self, digest: str) -> Path:
        return self.folder / digest[:2] / digest
