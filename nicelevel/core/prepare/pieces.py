"""A piece of a prepared signal from anywhere, without what lies before it."""

import math

import numpy as np
from numpy.typing import NDArray

from ..files.blocks import Block
from ..files.read import Audio
from ..values import Preparation
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
    return piece if gains is None else piece * gains[:, None]


def _channels(block: Block, preparation: Preparation) -> NDArray[np.float64]:
    return with_channels(block, preparation).astype(np.float64)


def _resampled(audio: Audio, preparation: Preparation, rate_hz: int, first: int, last: int) -> NDArray[np.float64]:
    """From a frame that both rates have in common, so that the piece lies on the grid of the whole."""
    source = audio.source
    common = math.gcd(source.sample_rate_hz, rate_hz)
    step, to_step = source.sample_rate_hz // common, rate_hz // common
    margin = round(MARGIN_S * rate_hz)
    begin, end = max(0, (first - margin) // to_step), -(-(last + margin) // to_step)
    block = _channels(audio.window(begin * step, min(source.frames, end * step)), preparation)
    with Resampler(source.sample_rate_hz, rate_hz, block.shape[1]) as resampler:
        parts = [resampler.next(block)]
        parts.append(resampler.next(parts[0][:0], is_last=True))
    piece = np.concatenate(parts)[first - begin * to_step : last - begin * to_step]
    return np.pad(piece, ((0, last - first - len(piece)), (0, 0)))
