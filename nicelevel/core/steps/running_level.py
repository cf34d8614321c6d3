"""The level about every frame: what a gate and a compressor go by."""

from collections.abc import Iterator
from itertools import chain

import numpy as np
from numpy.typing import NDArray

from ..kernels import Floats, kernel
from ..signals import Signal

WINDOW_S = 0.01
BLOCK_FRAMES = 1 << 16

FULL_SCALE_SQUARE = 1.0
"""The mean square of a square wave at full scale: 0 dB."""


def running_squares(signal: Signal) -> Iterator[NDArray[np.float64]]:
    """The mean square over 10 ms about each frame, of the channel that is loudest there; silence past the ends.

    Summed anew at fixed places, so that it does not depend on the size of blocks.
    """
    rate_hz, channels, left = signal.shape.rate_hz, signal.shape.channels, signal.shape.frames
    window = max(1, round(WINDOW_S * rate_hz))
    held, after = np.zeros((channels, window // 2)), np.zeros((2 * window, channels))
    for block in chain(signal.blocks(BLOCK_FRAMES), (after, after)):
        held = np.concatenate((held, block.T), axis=1)
        ready = max(0, (held.shape[1] - window) // window * window)
        if ready and left:
            squares = np.zeros(ready)
            mean_squares(held, window, squares)
            yield squares[:left]
            held, left = held[:, ready:], left - min(left, ready)


@kernel
def mean_squares(columns: Floats, window: int, means: Floats) -> None:
    """The largest mean square of any channel over the `window` frames from each frame on.

    columns: channels × frames, at least a window longer than `means`, zeros, whose length is so many windows.
    """
    for channel in range(len(columns)):
        samples = columns[channel]
        for start in range(0, len(means), window):
            total = 0.0
            for at in range(start, start + window):
                total += samples[at] * samples[at]
            for at in range(start, start + window):
                means[at] = max(means[at], total / window)
                leaving, coming = samples[at], samples[at + window]
                total += coming * coming - leaving * leaving
