"""The last step of fixed point: dither and rounding to the word length, its error shaped where that is asked for.

Lipshitz, Wanamaker and Vanderkooy, "Quantization and Dither: A Theoretical Survey", JAES 40 (1992): two
uniform values of one step each, added before rounding, make mean and variance of the error independent
of the signal.
"""

import numpy as np
from numpy.typing import NDArray

from ..kernels import Floats, Integers, kernel
from ..shaping import shaping_filter
from ..values import OutputFormat


def rounded(
    block: Floats, bits: int, dithers: bool, seed: int, first_frame: int, first_channel: int = 0, channels: int = 0
) -> NDArray[np.int32]:
    """Integer codes of a block of frames × channels, ±1.0 at full scale, held inside the word length.

    The dither of a sample depends on seed, frame and channel alone: block size changes no result, nor does it matter
    whether the channels of a programme (so many) come together or one by one.
    """
    channels = channels or block.shape[1]
    step = 1 if block.shape[1] == channels else channels
    first = first_frame * channels + first_channel
    samples, codes = np.ascontiguousarray(block).reshape(-1), np.empty(block.size, np.int32)
    round_samples(samples, bits, dithers, np.uint64(seed), first, step, codes)
    return codes.reshape(block.shape)


class Rounder:
    """Rounds the blocks of one programme, in their order: plainly, with TPDF dither, or with its error shaped too.

    first_frame: the number of the first frame it is given, where that is not the first of the programme.
    """

    def __init__(self, output: OutputFormat, dithers: bool, seed: int, first_frame: int = 0) -> None:
        assert output.bits
        self._bits, self._dithers, self._seed = output.bits, dithers, seed
        self._filter = None
        if dithers and output.dither == "shaped":
            self._filter = np.array(shaping_filter(output.sample_rate_hz))
            self._errors = np.zeros((len(output.layout.positions), len(self._filter)))
        self._first_channel = output.channel or 0
        self._channels = len(output.of_all_channels.layout.positions)
        self._done = first_frame

    def round(self, block: Floats) -> NDArray[np.int32]:
        """Codes of the next frames × channels. Block size changes no result."""
        first, self._done = self._done, self._done + len(block)
        if self._filter is None:
            programme = self._first_channel, self._channels
            return rounded(block, self._bits, self._dithers, self._seed, first, *programme)
        codes = np.empty(block.shape, np.int32)
        place = first * self._channels + self._first_channel, self._channels
        shape_block(block, self._bits, np.uint64(self._seed), *place, self._filter, self._errors, codes)
        return codes


@kernel
def shape_block(
    block: Floats,
    bits: int,
    seed: np.uint64,
    first: int,
    step: int,
    taps: Floats,
    errors: Floats,
    codes: Integers,
) -> None:
    """Like `round_samples` with dither, the last errors of a channel taken off its next sample.

    first: the number of the first sample; step: from frame to frame; errors: channels × taps, the newest first,
    carried on. An error is that of dither and rounding together; where a code is held inside the range, what was cut
    off is no error that could be made up for.
    """
    frames, channels = block.shape
    scale = 2.0 ** (bits - 1)
    for channel in range(channels):
        last = errors[channel]
        for frame in range(frames):
            wanted = block[frame, channel] * scale
            for tap in range(len(taps)):
                wanted -= taps[tap] * last[tap]
            code = np.floor(wanted + triangular(seed, np.uint64(first + frame * step + channel)) + 0.5)
            for tap in range(len(taps) - 1, 0, -1):
                last[tap] = last[tap - 1]
            last[0] = code - wanted
            codes[frame, channel] = np.int32(min(max(code, -scale), scale - 1.0))


@kernel
def triangular(seed: np.uint64, index: np.uint64) -> float:
    """Triangular noise in (-1, 1): the difference of two uniform halves of one hashed counter (splitmix64)."""
    z = seed + (index + np.uint64(1)) * np.uint64(0x9E3779B97F4A7C15)
    z = (z ^ (z >> np.uint64(30))) * np.uint64(0xBF58476D1CE4E5B9)
    z = (z ^ (z >> np.uint64(27))) * np.uint64(0x94D049BB133111EB)
    z = z ^ (z >> np.uint64(31))
    high, low = z >> np.uint64(32), z & np.uint64(0xFFFFFFFF)
    return (np.float64(high) - np.float64(low)) / 4294967296.0


@kernel
def round_samples(
    samples: Floats, bits: int, dithers: bool, seed: np.uint64, first: int, step: int, codes: Integers
) -> None:
    """Scale to the word length, add the dither, round to the nearest code, keep within the range.

    first, step: the number of the first sample in its programme, and how far the next one is from it. That all lie in
    one row lets the processor take several at once.
    """
    scale = 2.0 ** (bits - 1)
    if dithers:
        for at in range(len(samples)):
            dithered = samples[at] * scale + triangular(seed, np.uint64(first + at * step))
            codes[at] = np.int32(min(max(np.floor(dithered + 0.5), -scale), scale - 1.0))
    else:
        for at in range(len(samples)):
            codes[at] = np.int32(min(max(np.floor(samples[at] * scale + 0.5), -scale), scale - 1.0))
