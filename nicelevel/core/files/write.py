"""What writes the samples of each container. A source is never opened here; names are given in `staged.py`."""

import io
from functools import lru_cache
from pathlib import Path

import numpy as np
import soundfile

from ..values import OutputFormat
from .blocks import Samples
from .codes import in_three_bytes
from .containers import data_bytes
from .sink import Sink
from .wave_header import wave_header

_SOUNDFILE_FORMATS = {"aiff": "AIFF", "flac": "FLAC", "caf": "CAF"}
_SOUNDFILE_FLOATS = {"float_32": "FLOAT", "float_64": "DOUBLE"}


def open_sink(path: Path, output: OutputFormat, frames: int, seed: int = 0) -> Sink:
    """A sink that writes the container and encoding of `output` with exactly so many frames.

    seed: what an encoder would draw by chance comes from it.
    """
    if output.container == "wav":
        return _WaveSink(path, output, frames)
    if output.coding == "alac" and output.container == "caf":
        from .caf_alac import CafAlacSink

        return CafAlacSink(path, output, frames)
    if output.container in _SOUNDFILE_FORMATS:
        return _SoundfileSink(path, output)
    # Loaded only here: FFmpeg's libraries are large.
    from .encode import AvSink, VorbisSink
    from .lame import LameSink

    if output.encoding == "vorbis":
        return VorbisSink(path, output, seed)
    if output.encoding == "mp3":
        return LameSink(path, output)
    return AvSink(path, output)


class _WaveSink(Sink):
    """WAVE and RF64 by our own header: exact size known beforehand, channel mask, no time stamps."""

    def __init__(self, path: Path, output: OutputFormat, frames: int) -> None:
        self._output = output
        self._bytes = data_bytes(output, frames)
        self._file = path.open("wb")
        self._file.write(wave_header(output, self._bytes))

    def put(self, ready: Samples) -> None:
        self._file.write(packed(ready, self._output))

    def close(self) -> None:
        with self._file:
            self._file.write(b"\0" * (self._bytes % 2))


class _SoundfileSink(Sink):
    """AIFF, CAF and FLAC through libsndfile; fixed point as 32-bit words of which it keeps the upper bits."""

    def __init__(self, path: Path, output: OutputFormat) -> None:
        self._shift = 32 - output.bits if output.bits else 0
        self._dtype = np.int32 if output.bits else np.float64
        subtype = output.encoding.upper()
        self._file = soundfile.SoundFile(
            path,
            "w",
            samplerate=output.sample_rate_hz,
            channels=len(output.layout.positions),
            format=_SOUNDFILE_FORMATS[output.container],
            subtype=_SOUNDFILE_FLOATS.get(output.encoding, subtype),
        )

    def put(self, ready: Samples) -> None:
        self._file.write(np.left_shift(ready, self._shift) if self._shift else ready.astype(self._dtype))

    def close(self) -> None:
        self._file.close()


@lru_cache(maxsize=256)
def overhead_bytes(container: str, encoding: str, rate_hz: int, channels: int) -> int:
    """What AIFF and CAF take beside their samples, told from a file of two frames: headers are of one length."""
    file, frame = io.BytesIO(), np.zeros((2, channels))
    subtype = _SOUNDFILE_FLOATS.get(encoding, encoding.upper())
    soundfile.write(file, frame, rate_hz, subtype, format=_SOUNDFILE_FORMATS[container])
    return len(file.getvalue()) - 2 * channels * int(encoding.rpartition("_")[2]) // 8


def packed(samples: Samples, output: OutputFormat) -> bytes:
    """The little-endian bytes of samples in the output's encoding."""
    if output.bits is None:
        return samples.astype("<f4" if output.encoding == "float_32" else "<f8").tobytes()
    if output.bits == 24:
        return in_three_bytes(np.ascontiguousarray(samples, "<i4").reshape(-1))
    return samples.astype(f"<i{output.bits // 8}").tobytes()
