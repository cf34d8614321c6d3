"""The low band of every channel, one sample in every hop.

A gain that moves within a few milliseconds does not only scale low tones, it changes what they are: their energy
after it cannot be told from their energy before. So their waveform is kept, at a small part of the audio's rate.
"""

import numpy as np
from numpy.typing import NDArray

from ..files.codes import Coding, take_channel
from ..kernels import Floats, Integers, vectorised

REACH_S = 0.002
"""Half the length of the smoothing: it falls to half at 250 Hz and is nothing at 500."""

HOPS_AT_ONCE = 8

FULL_SCALE = 8192
"""1.0 in 16 bits: floating-point files may pass it by 12 dB."""


class LowBandMeter:
    """Gives the low band of hops whose neighbourhood is in the buffer."""

    def __init__(self, coding: Coding, channels: int, sample_rate_hz: int, longest_hop_frames: int) -> None:
        reach = max(1, round(REACH_S * sample_rate_hz))
        window = np.hanning(2 * reach + 3)[1:-1]
        self._window = window / window.sum() * coding.scale
        self._channels = channels
        self._samples = np.zeros(HOPS_AT_ONCE * longest_hop_frames + len(window))
        self._kernel = smooth_at.using(read=coding.reads)

    def samples(self, codes: Integers, edges: Integers, first_hop: int, last_hop: int) -> NDArray[np.float64]:
        """Hops × channels, ±1.0 at full scale, at the start of each hop. codes: silent where they end."""
        found = np.zeros((last_hop - first_hop, self._channels))
        self._kernel(codes, edges[first_hop:last_hop], self._window, self._samples, found)
        return found


def low_codes(samples: Floats) -> NDArray[np.int16]:
    """As they are kept."""
    codes: NDArray[np.int16] = np.clip(np.rint(samples * FULL_SCALE), -32768, 32767).astype(np.int16)
    return codes


@vectorised
def smooth_at(codes: Integers, frames: Integers, window: Floats, samples: Floats, found: Floats) -> None:
    """Weighted mean of the samples round each of some frames: hops × channels. samples: scratch."""
    reach = len(window) // 2
    for first in range(0, len(frames), HOPS_AT_ONCE):
        last = min(len(frames), first + HOPS_AT_ONCE)
        start, end = frames[first] - reach, frames[last - 1] + reach + 1
        for channel in range(found.shape[1]):
            take_channel(codes, start, channel, samples[: end - start])
            for hop in range(first, last):
                part, total = samples[frames[hop] - reach - start :], 0.0
                for at in range(len(window)):
                    total += window[at] * part[at]
                found[hop, channel] = total
