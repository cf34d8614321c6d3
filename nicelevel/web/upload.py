"""Receiving a file: streamed to disk, digested on the way, then moved under its digest."""

import hashlib
import os
import uuid
from pathlib import Path
from typing import BinaryIO

from nicelevel.core.errors import TruncatedError
from nicelevel.core.files.staged import speaking_errors
from nicelevel.store.audio import AudioFolder

PART_BYTES = 1 << 20


def receive(name: str, stream: BinaryIO, size_bytes: int, uploads: Path, audio: AudioFolder) -> tuple[str, int]:
    """Digest and size of a body that was kept whole; nothing stays of one that broke off. name: in its errors.

    Raises TruncatedError where it ends early, NoSpaceError where the disk is full.
    """
    part = uploads / f"{uuid.uuid4().hex}.part"
    try:
        with speaking_errors(Path(name)):
            digest, received = _save(stream, part)
            if received != size_bytes:
                raise TruncatedError(f"The upload broke off after {received} of {size_bytes} bytes.")
            audio.adopt(part, digest)
    finally:
        part.unlink(missing_ok=True)
    return digest, received


def _save(stream: BinaryIO, part: Path) -> tuple[str, int]:
    digest, received = hashlib.sha256(), 0
    with part.open("xb") as file:
        while data := stream.read(PART_BYTES):
            digest.update(data)
            file.write(data)
            received += len(data)
        file.flush()
        os.fsync(file.fileno())
    return digest.hexdigest(), received
