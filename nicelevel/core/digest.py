"""The digest that names a file's contents: SHA-256, in hexadecimal; and a number that its dither begins with."""

import hashlib
from pathlib import Path

_PART_BYTES = 1 << 20

SEED_PARTS, SEED_PART_BYTES = 64, 1 << 14


def sha256_of(path: Path) -> str:
    """Digest of a whole file."""
    digest = hashlib.sha256()
    with path.open("rb") as file:
        while part := file.read(_PART_BYTES):
            digest.update(part)
    return digest.hexdigest()


def seed_of(path: Path) -> int:
    """A number of 64 bits that the same contents always give.

    From the size and parts that are evenly spread over the file, a MiB of it at most: stems that begin and end alike
    must not be given the same dither, for it would add up in their sum.
    """
    size_bytes = path.stat().st_size
    digest = hashlib.sha256(str(size_bytes).encode())
    with path.open("rb") as file:
        for number in range(SEED_PARTS):
            file.seek(max(0, size_bytes - SEED_PART_BYTES) * number // (SEED_PARTS - 1))
            digest.update(file.read(SEED_PART_BYTES))
    return int.from_bytes(digest.digest()[:8], "big")
