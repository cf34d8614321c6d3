"""The digest that names a file's contents: SHA-256, in hexadecimal."""

import hashlib
from pathlib import Path

_PART_BYTES = 1 << 20


def sha256_of(path: Path) -> str:
    """Digest of a whole file."""
    digest = hashlib.sha256()
    with path.open("rb") as file:
        while part := file.read(_PART_BYTES):
            digest.update(part)
    return digest.hexdigest()
