"""Samples as the file holds them: codes of some type, and the buffer that a decoder fills with them.

Whole numbers stay whole numbers until a sum needs more: nothing is converted that is only compared.
"""

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ..kernels import Floats, Integers, Kernel, kernel, vectorised
from ..values import Source
from .blocks import Block, exact_in_single

_SPARE_BYTES = 64
"""Before the first sample: one of three bytes is read as a word of four that begins one byte earlier."""


@dataclass(frozen=True)
class Coding:
    """One sample: the type it is read as, the bytes it takes, and how many bits of a word lie over full scale.

    Whole numbers stand at the top of their word (24 bits in the upper three bytes of 32), so that one scale fits all.
    """

    dtype: np.dtype[Any]
    item_bytes: int
    bits_over: int = 0

    @property
    def is_whole(self) -> bool:
        return self.dtype.kind == "i"

    @property
    def scale(self) -> float:
        """What a code of 1 is in a range of ±1.0."""
        return 2.0 ** (1 + self.bits_over - 8 * self.dtype.itemsize) if self.is_whole else 1.0

    @property
    def reads(self) -> Kernel:
        """The kernel that reads one sample out of frames × channels of codes."""
        return _upper_three_bytes if self.item_bytes == 3 else read


WORDS_16 = Coding(np.dtype("<i2"), 2)
WORDS_24 = Coding(np.dtype("<i4"), 3)
WORDS_32 = Coding(np.dtype("<i4"), 4)
SINGLE = Coding(np.dtype("<f4"), 4)
DOUBLE = Coding(np.dtype("<f8"), 8)
HELD = Coding(np.dtype("<i4"), 4, bits_over=4)
"""The grid of prepared signals: see `signals.grid`."""


def coding_of(source: Source) -> Coding:
    """How samples of a source are held where they do not lie in the file as they are."""
    if source.bits_declared is not None:
        return WORDS_32
    return SINGLE if exact_in_single(source) else DOUBLE


class CodeBuffer:
    """Room for frames × channels of codes in one piece of memory, filled by a decoder."""

    def __init__(self, coding: Coding, channels: int, frames: int) -> None:
        self.coding = coding
        self._frame_bytes = channels * coding.item_bytes
        self._memory = np.zeros(_SPARE_BYTES + frames * self._frame_bytes, np.uint8)
        first_byte = _SPARE_BYTES - (coding.dtype.itemsize - coding.item_bytes)
        strides = (self._frame_bytes, coding.item_bytes)
        self.codes: NDArray[Any] = np.ndarray((frames, channels), coding.dtype, self._memory, first_byte, strides)

    def raw(self, first: int, last: int) -> memoryview:
        """The bytes of some frames, to be read into."""
        start, end = (_SPARE_BYTES + frame * self._frame_bytes for frame in (first, last))
        return self._memory.data[start:end]

    def put(self, first: int, block: Block | Integers) -> None:
        """Store frames × channels, given as samples, ±1.0 at full scale, or as whole numbers of this coding."""
        is_to_round = self.coding.is_whole and block.dtype.kind == "f"
        codes = np.clip(np.rint(block / self.coding.scale), -(2.0**31), 2.0**31 - 1) if is_to_round else block
        self.codes[first : first + len(block)] = codes

    def move_to_start(self, first: int, last: int) -> None:
        """Copy some frames to the front."""
        self.raw(0, last - first)[:] = bytes(self.raw(first, last))

    def clean_codes(self, first: int, last: int) -> NDArray[Any]:
        """The codes of some frames, without the byte that words of three bytes share with their neighbour."""
        codes: NDArray[Any] = self.codes[first:last]
        return codes & -256 if self.coding.item_bytes == 3 else codes

    def samples(self, first: int, last: int, dtype: type = np.float64) -> NDArray[Any]:
        """Some frames × channels, ±1.0 at full scale."""
        samples: NDArray[Any] = self.clean_codes(first, last).astype(dtype) * dtype(self.coding.scale)
        return samples


@vectorised
def read(codes: Integers, frame: int, channel: int) -> Any:
    """The sample as it is: what a kernel calls unless its caller puts a coding's own reading in the place."""
    return codes[frame, channel]


@vectorised
def _upper_three_bytes(codes: Integers, frame: int, channel: int) -> Any:
    """The fourth and lowest byte of the word belongs to the sample before."""
    return codes[frame, channel] & np.int32(-256)


@kernel
def take_channel(codes: Integers, first: int, channel: int, samples: Floats) -> None:
    """Samples of a channel from a frame on; 0 before the start and after the end."""
    if 0 <= first <= len(codes) - len(samples):
        part = codes[first : first + len(samples)]
        for at in range(len(samples)):
            samples[at] = read(part, at, channel)
        return
    for at in range(len(samples)):
        samples[at] = read(codes, first + at, channel) if 0 <= first + at < len(codes) else 0


def column_of(codes: NDArray[Any], channel: int, coding: Coding) -> NDArray[np.float64]:
    """The samples of one channel, ±1.0 at full scale, out of frames × channels of codes."""
    samples = np.empty(len(codes))
    _scale_column.using(read=coding.reads)(codes[:, channel : channel + 1], coding.scale, samples)
    return samples


@vectorised
def _scale_column(codes: Integers, scale: float, samples: Floats) -> None:
    for frame in range(len(samples)):
        samples[frame] = read(codes, frame, 0) * scale


def in_three_bytes(words: NDArray[np.int32]) -> bytes:
    """The lower three bytes of every word, one after the other."""
    joined = np.empty((len(words) // 4, 3), np.int32)
    join_three_bytes(words, joined)
    rest = words[4 * len(joined) :].view(np.uint8).reshape(-1, 4)[:, :3]
    return joined.tobytes() + rest.tobytes()


@vectorised
def join_three_bytes(words: Integers, joined: Integers) -> None:
    """Four words in three: a copy of the bytes would go three by three."""
    for at in range(len(joined)):
        first, second = words[4 * at] & 0xFFFFFF, words[4 * at + 1] & 0xFFFFFF
        third, fourth = words[4 * at + 2] & 0xFFFFFF, words[4 * at + 3] & 0xFFFFFF
        joined[at, 0] = first | second << 24
        joined[at, 1] = second >> 8 | third << 16
        joined[at, 2] = third >> 16 | fourth << 8
