"""A file as a browser can play it: WAVE with every sample as it is, made from any place on, never stored."""

from collections.abc import Iterator
from pathlib import Path

import numpy as np

from ..values import OutputFormat
from .containers import block_bytes, data_bytes
from .read import take_in
from .wave_header import wave_header
from .write import packed

BLOCK_FRAMES = 1 << 15
MOST_CHANNELS = 8
"""What browsers play; of more the first two are given."""


class Preview:
    """The bytes of a WAVE file that is computed where it is read."""

    def __init__(self, path: Path) -> None:
        self._path = path
        with take_in(path) as audio:
            source = audio.source
        self._channels = source.channels if source.channels <= MOST_CHANNELS else 2
        layout = source.layout if self._channels == source.channels else type(source.layout)("stereo", ("L", "R"))
        bits = source.bits_declared
        encoding = "float_32" if bits is None or bits > 24 else "pcm_16" if bits <= 16 else "pcm_24"
        self._output = OutputFormat("wav", encoding, source.sample_rate_hz, layout, "none")
        self._head = wave_header(self._output, data_bytes(self._output, source.frames))
        self._frames = source.frames
        self.size_bytes = len(self._head) + data_bytes(self._output, source.frames)

    def read(self, first: int, last: int) -> Iterator[bytes]:
        """Yield the bytes from `first` up to, not with, `last`."""
        if first < len(self._head):
            yield self._head[first:last]
        first, last = (max(0, at - len(self._head)) for at in (first, last))
        if last > first:
            yield from self._samples(first, last)

    def _samples(self, first: int, last: int) -> Iterator[bytes]:
        width = block_bytes(self._output)
        end = min(self._frames, -(-last // width))
        with take_in(self._path) as audio:
            for frame in range(first // width, end, BLOCK_FRAMES):
                samples = audio.window(frame, min(frame + BLOCK_FRAMES, end))[:, : self._channels]
                data = packed(self._coded(samples), self._output)
                at = frame * width
                yield data[max(0, first - at) : last - at]

    def _coded(self, samples: np.ndarray) -> np.ndarray:
        """Whole numbers are exact in single precision up to 24 bits."""
        bits = self._output.bits
        return samples if bits is None else np.rint(samples * 2.0 ** (bits - 1)).astype(np.int32)
