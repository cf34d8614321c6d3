"""Samples of several files in one encoding that holds all of them exactly."""

from collections.abc import Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ..channels import Layout
from ..files.blocks import Samples
from ..files.codes import DOUBLE, SINGLE, WORDS_24, Coding
from ..values import OutputFormat, Source

_WORD_BITS = (16, 24, 32)


def common_encoding(sources: Sequence[Source]) -> str:
    """The shortest one that holds every sample of all: the longest word; floating point beside whole numbers."""
    most_bits = max((each.bits_declared or 0 for each in sources), default=0)
    if all(each.bits_declared is not None for each in sources):
        return f"pcm_{next(bits for bits in _WORD_BITS if most_bits <= bits)}"
    is_double = most_bits > 24 or any(each.encoding == "float_64" for each in sources)
    return "float_64" if is_double else "float_32"


def wave_format(encoding: str, rate_hz: int, layout: Layout) -> OutputFormat:
    """A WAVE file whose samples are written as they are."""
    return OutputFormat("wav", encoding, rate_hz, layout, "none")


def in_words(codes: NDArray[Any], coding: Coding, output: OutputFormat) -> Samples:
    """Codes of a file as samples of an output that holds them exactly."""
    if output.bits is not None:
        words: NDArray[np.int32] = np.right_shift(at_the_top(codes, coding), 32 - output.bits)
        return words
    wanted = SINGLE.dtype if output.encoding == "float_32" else DOUBLE.dtype
    if not coding.is_whole:
        return codes.astype(wanted)
    samples: Samples = (at_the_top(codes, coding) * 2.0**-31).astype(wanted)
    return samples


def at_the_top(codes: NDArray[Any], coding: Coding) -> NDArray[np.int32]:
    """Whole numbers at the top of words of 32 bits."""
    words: NDArray[np.int32] = codes.astype(np.int32)
    words <<= 32 - 8 * codes.dtype.itemsize
    return words & -256 if coding == WORDS_24 else words
