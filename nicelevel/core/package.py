"""What is handed over together: the names of the files and the list of their checksums."""

from collections.abc import Iterable
from dataclasses import dataclass
from pathlib import Path, PurePosixPath

CHECKSUMS_NAME = "SHA256SUMS.txt"


@dataclass(frozen=True)
class Packed:
    """A file of a package: where it lies, what it is called inside, its digest."""

    path: Path
    name: str
    sha256: str


def checksum_list(files: Iterable[Packed]) -> str:
    """Lines as `sha256sum --check` reads them."""
    return "".join(f"{packed.sha256}  {packed.name}\n" for packed in files)


def with_own_names(files: Iterable[Packed]) -> list[Packed]:
    """The same files, each with a name of its own: a second "mix.wav" becomes "mix (2).wav".

    Names that differ in case alone are the same to some systems, and so here.
    """
    taken: set[str] = set()
    result = []
    for packed in files:
        name, number = PurePosixPath(packed.name), 2
        candidate = name
        while str(candidate).lower() in taken:
            candidate = name.with_name(f"{name.stem} ({number}){name.suffix}")
            number += 1
        taken.add(str(candidate).lower())
        result.append(Packed(packed.path, str(candidate), packed.sha256))
    return result
