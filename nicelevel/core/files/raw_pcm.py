"""Reading the plain 16- and 24-bit samples of a WAVE file as they lie there, far faster than a decoder does."""

import numpy as np

from ..values import Source
from .blocks import Block
from .codes import WORDS_16, WORDS_24, CodeBuffer
from .headers import Header

_CODINGS = {"pcm_16": WORDS_16, "pcm_24": WORDS_24}


def is_raw_pcm(source: Source, header: Header) -> bool:
    """Whether the samples lie in the file as little-endian words without gaps."""
    coding = _CODINGS.get(source.encoding)
    if coding is None or header.data_offset is None:
        return False
    return header.block_align == source.channels * coding.item_bytes


class RawPcmDecoder:
    """A described source, read from the start of its samples."""

    can_seek = opens_at_once = True
    is_coded = False

    def __init__(self, source: Source, header: Header) -> None:
        self.source = source
        self.coding = _CODINGS[source.encoding]
        self._block_align = header.block_align
        self._file = source.path.open("rb")
        self._data_offset = header.data_offset or 0
        self._file.seek(self._data_offset)

    def read(self, frames: int) -> Block:
        """The next frames × channels."""
        buffer = CodeBuffer(self.coding, self.source.channels, frames)
        return buffer.samples(0, self.read_into(buffer, 0, frames), np.float32)

    def read_into(self, buffer: CodeBuffer, first: int, last: int) -> int:
        """Fill frames of a buffer with the bytes of the file; how many were."""
        return self._file.readinto(buffer.raw(first, last)) // self._block_align

    def seek(self, frame: int) -> None:
        """Go on reading from a frame."""
        self._file.seek(self._data_offset + frame * self._block_align)

    def close(self) -> None:
        self._file.close()
