"""What every two channels of a file have in common, by frequency and over time: from it the sum of any shares of them
is known without the audio.
"""

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ..channels import layout_from_count
from ..files import Audio
from ..files.blocks import Block
from ..measure.gating import gating_blocks, integrated_lufs
from ..measure.hop_energies import HopEnergies
from ..values import Shape

Floats = NDArray[np.float64]

WINDOW_S = 0.085
MOST_PRODUCTS = 9_000
"""Windows times pairs of channels: fewer windows of many channels."""

LEAST_WINDOWS, MOST_WINDOWS, STRETCHES = 128, 1_024, 220
LOWEST_HZ, HIGHEST_HZ, BANDS_PER_OCTAVE = 30.0, 20_000.0, 6
BLOCK_FRAMES = 1 << 16


@dataclass(frozen=True)
class InCommon:
    """bands_hz: middles; by_band: bands × channels × channels, mean of the products of both channels' spectra (real
    parts: shares have no phase); over_time: stretches × channels × channels, mean product of their samples.
    """

    shape: Shape
    bands_hz: Floats
    by_band: Floats
    over_time: Floats


def listen_in_common(audio: Audio) -> InCommon:
    """From windows spread evenly over a file: all of a short one, a thousand of a long one. Raises as its blocks."""
    shape = audio.shape
    size = 1 << max(8, int(WINDOW_S * shape.rate_hz).bit_length())
    edges = _edges(shape.rate_hz, size)
    products: list[Floats] = []
    by_band = np.zeros((len(edges) - 1, shape.channels, shape.channels))
    taper = np.hanning(size)[:, None]
    for window in _windows(audio, size):
        samples = np.asarray(window, np.float64)
        products.append(samples.T @ samples / len(samples))
        spectrum = np.fft.rfft(samples * taper[: len(samples)], size, axis=0)
        of_bins = (spectrum[:, :, None] * spectrum.conj()[:, None, :]).real
        by_band += np.add.reduceat(of_bins, edges, axis=0)[:-1]
    middles_hz: Floats = np.sqrt(edges[:-1] * (edges[1:] - 1.0)) * shape.rate_hz / size
    return InCommon(shape, middles_hz, by_band / max(1, len(products)), _stretches(products, shape.channels))


def _edges(rate_hz: int, size: int) -> NDArray[np.intp]:
    """The first bin of each band and the one after the last: at the low end a band may be a single bin."""
    highest_hz = min(HIGHEST_HZ, 0.49 * rate_hz)
    octaves = max(1.0 / BANDS_PER_OCTAVE, np.log2(highest_hz / LOWEST_HZ))
    edges_hz = LOWEST_HZ * 2.0 ** (np.arange(int(octaves * BANDS_PER_OCTAVE) + 1) / BANDS_PER_OCTAVE)
    edges: NDArray[np.intp] = np.unique(np.clip(np.round(edges_hz * size / rate_hz).astype(np.intp), 1, size // 2))
    return edges


def _windows(audio: Audio, size: int) -> Iterator[Block]:
    """So many frames each, evenly spread; of a file that is shorter than one, all there is."""
    frames, channels = audio.shape.frames, audio.shape.channels
    most = min(MOST_WINDOWS, max(LEAST_WINDOWS, MOST_PRODUCTS // channels**2))
    count = max(1, min(most, frames // size))
    starts = [max(0, frames - size) * number // max(1, count - 1) for number in range(count)]
    if audio.can_seek:
        yield from (audio.window(start, min(frames, start + size)) for start in starts)
    else:
        yield from _passing(audio, size, starts)


def _passing(audio: Audio, size: int, starts: list[int]) -> Iterator[Block]:
    """The same of what can only be read from its beginning."""
    held, first, waiting = np.zeros((0, audio.shape.channels)), 0, list(starts)
    for block in audio.blocks(BLOCK_FRAMES):
        held = np.concatenate((held, block))
        while waiting and (waiting[0] + size <= first + len(held) or first + len(held) == audio.shape.frames):
            yield held[waiting[0] - first : waiting[0] - first + size]
            waiting.pop(0)
        kept_from = waiting[0] if waiting else first + len(held)
        held, first = held[max(0, kept_from - first) :], max(first, min(kept_from, first + len(held)))


def _stretches(products: list[Floats], channels: int) -> Floats:
    """Means over at most so many stretches of time."""
    found = np.array(products).reshape(-1, channels, channels)
    count = min(STRETCHES, len(found))
    edges = np.arange(count) * len(found) // max(1, count)
    lengths = np.diff(np.append(edges, len(found)))
    means: Floats = np.add.reduceat(found, edges, axis=0) / lengths[:, None, None]
    return means


def loudness_alone(audio: Audio) -> list[float]:
    """Gated loudness of each channel as if it were the only one, in LUFS (ITU-R BS.1770-5). Raises as its blocks."""
    shape = audio.shape
    one = Shape(shape.rate_hz, layout_from_count(1), shape.frames)
    meters = [HopEnergies(one) for _ in range(shape.channels)]
    for block in audio.blocks(BLOCK_FRAMES):
        for channel, meter in enumerate(meters):
            meter.feed(block[:, channel : channel + 1])
    return [integrated_lufs(gating_blocks(meter.values())) for meter in meters]
