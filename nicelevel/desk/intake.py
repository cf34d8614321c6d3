"""Taking in a file: whether there is room, what it is called, what it stands for.

It is streamed to disk, digested on the way, then moved under its digest.
"""

import hashlib
import os
import shutil
import uuid
from datetime import UTC, datetime
from pathlib import Path
from typing import BinaryIO

from nicelevel.config import Config
from nicelevel.core.errors import NoSpaceError, TooLargeError, TruncatedError
from nicelevel.core.files.staged import speaking_errors
from nicelevel.report.words import megabytes
from nicelevel.store.audio import AudioFolder
from nicelevel.store.models import Source
from nicelevel.store.sources import find_source

PART_BYTES = 1 << 20
ROOM_SHARE, ROOM_BYTES = 0.1, 200_000_000
"""What is measured of a file takes a tenth of its size at most; and so much is left for what is under way."""


def refuse_too_large(size_bytes: int, config: Config) -> None:
    """Raises TooLargeError or NoSpaceError where a file of this size is not taken in, before any of it has come."""
    if size_bytes > config.largest_upload_bytes:
        largest = megabytes(config.largest_upload_bytes)
        raise TooLargeError(f"The file is larger than the {largest} MB that are taken in.")
    free_bytes = shutil.disk_usage(config.uploads_folder).free
    if size_bytes * (1 + ROOM_SHARE) + ROOM_BYTES > free_bytes:
        raise NoSpaceError(
            f"There is no room for {megabytes(size_bytes)} MB: {megabytes(free_bytes)} MB of the disk are free, and "
            f"{megabytes(ROOM_BYTES)} of them are kept for what is under way."
        )


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


def replaced(job_id: int, given: str) -> Source | None:
    """The source of a job that a file is given for; None where none is named, or it has gone."""
    source = find_source(int(given)) if given.isdigit() and len(given) < 19 else None
    return source if source and source.job_id == job_id else None


def changed(milliseconds: int | None) -> datetime | None:
    """When a file was last changed, as a browser tells it; None where that is no date."""
    try:
        return datetime.fromtimestamp(milliseconds / 1000, UTC) if milliseconds is not None else None
    except (OverflowError, ValueError, OSError):
        return None


def shown_name(given: str) -> str:
    """The last part of a path as a browser may give it, without signs that cannot be shown."""
    last = given.replace("\\", "/").rpartition("/")[2]
    return "".join(sign for sign in last if sign.isprintable()).strip() or "untitled"
