"""Reading plain samples as they lie in the files of the WAVE family and of CAF: far faster than a decoder does, and
whatever other chunks stand before, between and behind them."""

from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ..channels import layout_from_count, layout_from_mask
from ..errors import EmptyError, UnsupportedError
from ..values import Source
from .blocks import Block, exact_in_single, truncated
from .codes import DOUBLE, SINGLE, WORDS_16, WORDS_24, WORDS_32, CodeBuffer
from .headers import Header

_CODINGS = {"pcm_16": WORDS_16, "pcm_24": WORDS_24, "pcm_32": WORDS_32, "float_32": SINGLE, "float_64": DOUBLE}
"""Little-endian words that are held in memory as they lie in the file."""


def describe_raw(path: Path, size_bytes: int, header: Header) -> Source | None:
    """What a header says, where its samples are plain; None where they need a decoder, or there is none at all.

    Raises UnsupportedError where they are of a kind that nobody reads, EmptyError and TruncatedError.
    """
    samples = header.samples
    if samples is None or header.data_offset is None:
        return None
    if samples.encoding is None:
        if samples.is_known:
            return None
        raise UnsupportedError(f"Samples of the kind {samples.kind} cannot be taken in.")
    frames = header.present_frames if header.promised_frames is None else header.promised_frames
    if not frames:
        raise EmptyError("The file has a header, but not one frame of audio.")
    if header.present_frames is not None and header.present_frames < frames:
        raise truncated(header.present_frames, frames, max(1, samples.sample_rate_hz))
    stated = layout_from_mask(header.channel_mask, samples.channels) if header.channel_mask else None
    is_float = samples.encoding.startswith("float")
    return Source(
        path=path,
        size_bytes=size_bytes,
        container=header.container,
        encoding=samples.encoding,
        sample_rate_hz=samples.sample_rate_hz,
        layout=stated or layout_from_count(samples.channels),
        frames=frames,
        bits_declared=None if is_float else int(samples.encoding.rpartition("_")[2].lstrip("u")),
        bitrate_kbps=None,
    )


class RawDecoder:
    """A described source, read from the start of its samples."""

    can_seek = opens_at_once = True
    is_coded = False

    def __init__(self, source: Source, header: Header) -> None:
        assert header.samples
        assert header.data_offset is not None
        self.source = source
        self._convert = _conversion(source.encoding, header.samples.is_big_endian)
        self.coding = _CODINGS.get(source.encoding, WORDS_32)
        if self._convert and self.coding.is_whole:
            self.coding = WORDS_32
        self._dtype = np.float32 if exact_in_single(source) else np.float64
        self._block_align, self._data_offset = header.samples.block_align, header.data_offset
        self._left_bytes = source.frames * self._block_align
        self._file = source.path.open("rb")
        self._file.seek(self._data_offset)

    def read(self, frames: int) -> Block:
        """The next frames × channels."""
        buffer = CodeBuffer(self.coding, self.source.channels, frames)
        return buffer.samples(0, self.read_into(buffer, 0, frames), self._dtype)

    def read_into(self, buffer: CodeBuffer, first: int, last: int) -> int:
        """Fill frames of a buffer with the samples of the file, none of what comes after them; how many were."""
        wanted = min(last - first, self._left_bytes // self._block_align)
        if self._convert is None:
            frames = self._file.readinto(buffer.raw(first, first + wanted)) // self._block_align
        else:
            data = self._file.read(wanted * self._block_align)
            frames = len(data) // self._block_align
            codes = self._convert(np.frombuffer(data[: frames * self._block_align], np.uint8))
            buffer.codes[first : first + frames] = codes.reshape(frames, self.source.channels)
        self._left_bytes -= frames * self._block_align
        return frames

    def seek(self, frame: int) -> None:
        """Go on reading from a frame."""
        self._file.seek(self._data_offset + frame * self._block_align)
        self._left_bytes = (self.source.frames - frame) * self._block_align

    def close(self) -> None:
        self._file.close()


Convert = Callable[[NDArray[np.uint8]], NDArray[Any]]


def _conversion(encoding: str, is_big_endian: bool) -> Convert | None:
    """From bytes of a file to codes, whole ones at the top of 32 bits; None where they lie there already."""
    if encoding == "pcm_u8":
        return lambda data: (data.astype(np.int32) - 128) << 24
    if encoding == "pcm_8":
        return lambda data: data.view(np.int8).astype(np.int32) << 24
    if not is_big_endian:
        return None
    if encoding == "pcm_24":
        return _from_big_24
    kind = {"pcm_16": ">i2", "pcm_32": ">i4", "float_32": ">f4", "float_64": ">f8"}[encoding]
    if encoding == "pcm_16":
        return lambda data: data.view(kind).astype(np.int32) << 16
    native = kind.replace(">", "<")
    return lambda data: data.view(kind).astype(native)


def _from_big_24(data: NDArray[np.uint8]) -> NDArray[np.int32]:
    words = np.zeros((len(data) // 3, 4), np.uint8)
    words[:, :3] = data.reshape(-1, 3)
    codes: NDArray[np.int32] = words.view(">i4").astype(np.int32).ravel()
    return codes
