"""A piece of a prepared signal from anywhere, without what lies before it."""

import math
from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

from ..files.blocks import Block
from ..files.read import Audio
from ..values import Preparation
from .held import in_steps, is_in_steps
from .prepared import Resampler, closing_gains, with_channels

MARGIN_S = 0.1
"""So much more is resampled on either side: its filter reaches no farther."""


def prepared_piece(audio: Audio, preparation: Preparation, first: int, last: int) -> NDArray[np.float64]:
    """Frames × channels from `first` to before `last`, both inside, of what `prepared_blocks` gives.

    Raises UnsupportedError where the file can only be read from its start.
    """
    if preparation.sample_rate_hz is None:
        piece = _channels(audio.window(first, last), preparation)
    else:
        piece = _resampled(audio, preparation, preparation.sample_rate_hz, first, last)
    gains = closing_gains(preparation, first, len(piece))
    piece = piece if gains is None else piece * gains[:, None]
    return in_steps(piece) if is_in_steps(audio.source, preparation) else piece


def _channels(block: Block, preparation: Preparation) -> NDArray[np.float64]:
    return with_channels(block, preparation).astype(np.float64)


def _resampled(audio: Audio, preparation: Preparation, rate_hz: int, first: int, last: int) -> NDArray[np.float64]:
    source = audio.source

    def window(begin: int, end: int) -> NDArray[np.float64]:
        return _channels(audio.window(begin, end), preparation)

    return resampled_piece(window, source.frames, (source.sample_rate_hz, rate_hz), first, last)


def resampled_piece(
    window: Callable[[int, int], NDArray[np.float64]], frames: int, rates_hz: tuple[int, int], first: int, last: int
) -> NDArray[np.float64]:
    """Some frames at another rate of a signal that can be asked for from anywhere.

    From a frame that both rates have in common, so that the piece lies on the grid of the whole. window: gives some
    frames × channels of the signal, which has so many; rates_hz: its own, and the other that `first` counts by.
    """
    rate_hz, to_hz = rates_hz
    common = math.gcd(rate_hz, to_hz)
    step, to_step = rate_hz // common, to_hz // common
    margin = round(MARGIN_S * to_hz)
    begin, end = max(0, (first - margin) // to_step), -(-(last + margin) // to_step)
    block = window(begin * step, min(frames, end * step))
    with Resampler(rate_hz, to_hz, block.shape[1]) as resampler:
        whole = np.concatenate(list(resampler.stream([block])))
    piece = whole[first - begin * to_step : last - begin * to_step]
    return np.pad(piece, ((0, last - first - len(piece)), (0, 0)))
