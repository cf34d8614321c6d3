"""A package as a stream: stored, not deflated (audio does not shrink), with its checksums."""

from collections.abc import Iterator, Sequence
from pathlib import Path
from urllib.parse import quote

from zipstream import ZIP_STORED, ZipStream

from nicelevel.core.files.names import safe_name
from nicelevel.core.package import CHECKSUMS_NAME, Packed, checksum_list, with_own_names
from nicelevel.store.deliverables import file_of
from nicelevel.store.models import Deliverable


def package_name(title: str) -> str:
    """Name of the zip, for a header."""
    return quote(f"{safe_name(title)}.zip")


def stream_package(deliverables: Sequence[Deliverable], folder: Path) -> Iterator[bytes]:
    """The zip of these deliverables, piece by piece; files over 4 GiB and many of them are no matter (zip64)."""
    files = with_own_names(
        Packed(file_of(each, folder), str(each.file_name), str(each.sha256)) for each in deliverables
    )
    stream = ZipStream(compress_type=ZIP_STORED)
    for packed in files:
        stream.add_path(packed.path, packed.name)
    stream.add(checksum_list(files).encode(), CHECKSUMS_NAME)
    yield from stream
