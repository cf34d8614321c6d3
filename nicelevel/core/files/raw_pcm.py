"""Reading the plain 16- and 24-bit samples of a WAVE file straight into planes, far faster than a decoder does."""

import numpy as np

from ..kernels import Floats, Integers, vectorised
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

    def __init__(self, source: Source, header: Header) -> None:
        self.source = source
        self.coding = _CODINGS[source.encoding]
        self._block_align = header.block_align
        self._file = source.path.open("rb")
        self._data_offset = header.data_offset or 0
        self._file.seek(self._data_offset)

    def read(self, frames: int) -> Block:
        """The next frames × channels; each channel lies in one piece."""
        data = self._file.read(frames * self._block_align)
        count = len(data) // self._block_align
        planes = np.empty((self.source.channels, count), np.float32)
        words = np.frombuffer(data, np.uint8, count * self._block_align)
        if self.source.encoding == "pcm_16":
            planes[:] = words.view("<i2").reshape(count, -1).T
            planes *= np.float32(2.0**-15)
        else:
            unpack_24(words, planes)
        return planes.T

    def read_into(self, buffer: CodeBuffer, first: int, last: int) -> int:
        """Fill frames of a buffer with the bytes of the file; how many were."""
        return self._file.readinto(buffer.raw(first, last)) // self._block_align

    def seek(self, frame: int) -> None:
        """Go on reading from a frame."""
        self._file.seek(self._data_offset + frame * self._block_align)

    def close(self) -> None:
        self._file.close()


@vectorised
def unpack_24(words: Integers, planes: Floats) -> None:
    """Samples of three bytes, interleaved, into channels × frames, ±1.0 at full scale; float32 holds them."""
    channels, frames = planes.shape
    for channel in range(channels):
        plane = planes[channel]
        for frame in range(frames):
            at = (frame * channels + channel) * 3
            low, middle, high = np.uint32(words[at]), np.uint32(words[at + 1]), np.uint32(words[at + 2])
            code = np.int32(low << np.uint32(8) | middle << np.uint32(16) | high << np.uint32(24))
            plane[frame] = np.float32(code) * np.float32(2.0**-31)
