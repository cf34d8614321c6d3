"""The folder of audio: each file under the digest of its contents, the curves of its reading beside it."""

import errno
import fcntl
import hashlib
import itertools
import os
import shutil
import tempfile
from collections.abc import Iterator, Sequence
from contextlib import contextmanager, suppress
from dataclasses import dataclass, fields
from pathlib import Path

import numpy as np

from nicelevel.core.errors import LostError
from nicelevel.core.files.beside import SUFFIX, files_of, text_beside
from nicelevel.core.files.staged import flush, sweep_parts
from nicelevel.core.measure.hop_files import HOP_NAMES, Hops, open_hops, waveform_name
from nicelevel.core.values import Curves

from .depot import bring, drop, keep, keep_all, size_there

DECODED = "decoded.wav"

MEASURED_LOST = "What was measured of it is missing from the data folder; it is measured again."

AUDIO_LOST = (
    "Its audio is missing from the data folder. Let the same file go here once more and it is found again, "
    "or take the source out."
)


UNFINISHED = ".making-"
"""What a worker is writing lies in a folder of its own, whose name begins so; it is locked while somebody writes."""


@dataclass(frozen=True)
class AudioFolder:
    """Content-addressed: what is there never changes, the same file twice is kept once."""

    folder: Path

    def audio_path(self, digest: str) -> Path:
        """The file itself; of several side by side the one that names them."""
        audio, beside = self._home(digest) / "audio", self._home(digest) / f"audio{SUFFIX}"
        if bring(audio).exists() or not bring(beside).exists():
            return audio
        for each in files_of(beside):
            bring(each.resolve())
        return beside

    def named_path(self, digest: str) -> Path:
        """Where the file itself lies once it is here; nothing is brought for asking."""
        home = self._home(digest)
        audio = home / "audio"
        if audio.exists():
            return audio
        beside = home / f"audio{SUFFIX}"
        return beside if beside.exists() else audio

    def is_kept(self, digest: str) -> bool:
        """Whether the file itself is here, or where it is kept for good."""
        return any(size_there(self._home(digest) / name) is not None for name in ("audio", f"audio{SUFFIX}"))

    def waveform_path(self, digest: str, level: int) -> Path:
        """One level of the waveform of a reading."""
        return bring(self.hops_folder(digest) / waveform_name(level))

    def existing_path(self, digest: str) -> Path:
        """The same. Raises LostError where it is not there any more."""
        path = self.audio_path(digest)
        if not path.is_file() or not all(each.is_file() for each in files_of(path)):
            raise LostError(AUDIO_LOST)
        return path

    def adopt(self, upload: Path, digest: str) -> Path:
        """Move an upload to its place, read-only; where the same contents are there already, drop it.

        What lies there in another length has been damaged, and is replaced.
        """
        path = self._home(digest) / "audio"
        path.parent.mkdir(parents=True, exist_ok=True)
        if path.exists() and path.stat().st_size == upload.stat().st_size:
            upload.unlink()
            os.utime(path.parent)  # whoever sweeps at this moment sees that it has just come in once more
            keep(path)
            return path
        upload.chmod(0o444)
        os.replace(upload, path)
        for folder in (path.parent, path.parent.parent, self.folder):
            flush(folder)
        keep(path)
        return path

    def put_beside(self, layout: str, digests: Sequence[str]) -> str:
        """Name files of one channel that are there as one, in the order of a layout; the digest that it has."""
        text = text_beside(layout, [f"../../{each[:2]}/{each}/audio" for each in digests])
        digest = hashlib.sha256(text.encode()).hexdigest()
        path = self._home(digest) / f"audio{SUFFIX}"
        with self._making(digest) as folder:
            part = folder / "made"
            part.write_text(text)
            flush(part)
            os.replace(part, path)
        for each in (path.parent, path.parent.parent, self.folder):
            flush(each)
        keep(path)
        return digest

    def save_curves(self, digest: str, curves: Curves) -> None:
        """Write the curves, each whole or not at all."""
        with self._making(digest) as folder:
            for name, array in vars(curves).items():
                np.save(folder / f"{name}.npy", array)
                os.replace(folder / f"{name}.npy", self._home(digest) / f"{name}.npy")
                keep(self._home(digest) / f"{name}.npy")

    def load_curves(self, digest: str) -> Curves:
        """Raises LostError where they are not there any more, or not whole."""
        with losing():
            home = self._home(digest)
            return Curves(**{field.name: np.load(bring(home / f"{field.name}.npy")) for field in fields(Curves)})

    def load_hops(self, digest: str) -> Hops:
        """Raises LostError where they are not there any more, or not whole."""
        with losing():
            for name in HOP_NAMES:
                bring(self.hops_folder(digest) / name)
            return open_hops(self.hops_folder(digest))

    @contextmanager
    def keeping_hops(self, digest: str) -> Iterator[Path]:
        """A folder to write what is kept of every hop; it takes its place when the block ends well, or is gone."""
        place = self.hops_folder(digest)
        with self._making(digest) as folder:
            part = folder / "made"
            part.mkdir()
            yield part
            _put_in_place(part, place, folder)
            keep_all(place)

    @contextmanager
    def _making(self, digest: str) -> Iterator[Path]:
        """A folder beside the audio that is gone afterwards. The same contents may be measured twice at once."""
        self._home(digest).mkdir(parents=True, exist_ok=True)
        with tempfile.TemporaryDirectory(prefix=UNFINISHED, dir=self._home(digest)) as folder:
            held = os.open(folder, os.O_RDONLY)
            try:
                with suppress(OSError):
                    fcntl.flock(held, fcntl.LOCK_EX)
                yield Path(folder)
            finally:
                os.close(held)

    def sweep(self, digest: str | None = None) -> int:
        """Remove what workers left that were killed while they wrote, of some contents or of all; bytes it frees."""
        homes = list(self.folder.glob("*/*")) if digest is None else [self._home(digest)]
        for home in homes:
            sweep_parts(home)
        return sum(free_folder(left) for home in homes for left in home.glob(f"{UNFINISHED}*") if _is_left(left))

    def digests(self) -> Iterator[str]:
        """Of everything that is kept here: of sources, and of prepared signals."""
        return (home.name for home in self.folder.glob("*/*") if home.is_dir())

    def remove(self, digest: str) -> int:
        """Remove all that is kept of some contents; how many bytes that frees."""
        drop(self._home(digest))
        return free_folder(self._home(digest))

    def has_measured(self, digest: str) -> bool:
        """Whether all files of a reading are there."""
        curves = [self._home(digest) / f"{field.name}.npy" for field in fields(Curves)]
        hops = [self.hops_folder(digest) / name for name in HOP_NAMES]
        return all(size_there(path) is not None for path in (*curves, *hops))

    def hops_folder(self, digest: str) -> Path:
        return self._home(digest) / "hops"

    def playable_path(self, digest: str) -> Path:
        """The audio, or what was decoded of it where it cannot be read from anywhere but its start."""
        decoded = bring(self.hops_folder(digest) / DECODED)
        return decoded if decoded.exists() else self.audio_path(digest)

    def _home(self, digest: str) -> Path:
        return self.folder.joinpath(digest[:2], digest)


@contextmanager
def losing() -> Iterator[None]:
    """Turn what is missing or damaged of what was kept into an error with a sentence."""
    try:
        yield
    except (FileNotFoundError, ValueError, EOFError) as error:
        raise LostError(MEASURED_LOST) from error


def _is_left(folder: Path) -> bool:
    """Whether nobody is writing there any more."""
    try:
        held = os.open(folder, os.O_RDONLY)
    except OSError:
        return False
    try:
        fcntl.flock(held, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except OSError:
        return False
    finally:
        os.close(held)
    return True


def free_folder(folder: Path) -> int:
    """Remove a folder; how many bytes that frees."""
    size_bytes = size_of(folder)
    shutil.rmtree(folder, ignore_errors=True)
    return size_bytes


def size_of(folder: Path) -> int:
    """Bytes of the files in a folder, as they take room on the disk."""
    found = 0
    for place, _, names in os.walk(folder):
        for name in names:
            found += size_of_file(Path(place, name))
    return found


def size_of_file(path: Path) -> int:
    """Bytes that a file takes on the disk; none where it is gone."""
    with suppress(FileNotFoundError):
        return os.lstat(path).st_blocks * 512
    return 0


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
