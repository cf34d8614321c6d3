"""The pages of an Ogg file: its stream's serial number, which encoders draw by chance, is settled (RFC 3533, 6)."""

from pathlib import Path
from typing import Literal

_SEGMENTS_AT = 26
_LONGEST_PAGE_BYTES, _LAST = 65_307, 4
"""RFC 3533, 6: the longest page there can be, and the flag of the last one."""

Ending = Literal["whole", "inside a page", "without an end"]


def ending_of(path: Path) -> Ending:
    """How a file ends: with the page that says that it is the last, in the middle of one, or after any other."""
    size_bytes = path.stat().st_size
    with path.open("rb") as file:
        file.seek(max(0, size_bytes - _LONGEST_PAGE_BYTES))
        tail = file.read()
    at = tail.rfind(b"OggS")
    while at >= 0 and not _is_head(tail, at):
        at = tail.rfind(b"OggS", 0, at)
    if at < 0:
        return "inside a page"
    body = at + _SEGMENTS_AT + 1 + tail[at + _SEGMENTS_AT]
    end = body + sum(tail[at + _SEGMENTS_AT + 1 : body])
    if end > len(tail):
        return "inside a page"
    return "whole" if tail[at + 5] & _LAST else "without an end"


def _is_head(data: bytes, at: int) -> bool:
    """Whether a page can begin here: its version is 0, and it has not more flags than there are."""
    return len(data) - at > _SEGMENTS_AT + 1 and data[at + 4] == 0 and data[at + 5] < 8


def settle_serial(path: Path, serial: int) -> None:
    """Give every page of a file with one stream this serial number: the same input then makes the same bytes.

    What broke off while it was written stays as it is: its writer says why.
    """
    # Loaded here: most calls never need it.
    from mutagen.ogg import OggPage, error

    pages = []
    with path.open("r+b") as file:
        while file.peek(1):
            try:
                page = OggPage(file)
            except (error, EOFError):
                return
            page.serial = serial & 0xFFFFFFFF
            pages.append(page.write())
        file.seek(0)
        file.writelines(pages)
