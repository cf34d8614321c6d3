"""Encoding: lossy formats and ALAC, through FFmpeg's libraries and, for Vorbis, libsndfile.

The exact length survives where the format has a place for it: M4A in its edit list, Ogg in the position of its last
page. MP3 is in `lame.py`.
"""

from abc import abstractmethod
from fractions import Fraction
from pathlib import Path
from typing import Any

import av
import numpy as np
import soundfile
from av.audio.fifo import AudioFifo
from numpy.typing import NDArray

from ..values import OutputFormat
from .blocks import Samples
from .ogg import settle_serial
from .sink import Sink
from .with_av import MOST_PLANES, in_format

_CODECS = {"aac": "aac", "opus": "libopus", "ac3": "ac3", "alac": "alac"}
_MUXERS = {"m4a": "ipod", "ogg": "ogg", "ac3": "ac3"}
_SHORTEST_ALAC = 16
"""With six channels FFmpeg's encoder aborts at frames of one or two samples: what is shorter is filled up."""

_LAYOUTS = {1: "mono", 2: "stereo", 6: "5.1", 8: "7.1"}
_FRAMES_AT_ONCE = 1 << 14

# Where each channel of a Vorbis stream comes from, ours being in the order of the WAVE mask (Vorbis I, 4.3.9).
_VORBIS_ORDER = {6: (0, 2, 1, 4, 5, 3), 8: (0, 2, 1, 6, 7, 4, 5, 3)}

_VORBIS_FRAMES_AT_ONCE = 1 << 16
"""libvorbis copies what it gets at first onto the stack: half a minute ends the process."""

# Nominal bit rates of Vorbis per stereo signal by quality, 0 to 10 (libvorbis, 44.1 and 48 kHz).
_VORBIS_KBPS = (64, 80, 96, 112, 128, 160, 192, 224, 256, 320, 500)


Packets = list[Any]
"""Of PyAV: what an encoder made."""


class FramesSink(Sink):
    """Gathers blocks of frames × channels into frames as long as an encoder takes them, and encodes those."""

    def __init__(self, output: OutputFormat, codec: av.AudioCodecContext) -> None:
        self._output, self._codec = output, codec
        self._layout, self._format = _LAYOUTS[len(output.layout.positions)], _sample_format(output)
        self._fifo, self._done = AudioFifo(), 0
        self._frame_size = codec.frame_size or _FRAMES_AT_ONCE
        is_wide_alac = output.coding == "alac" and len(output.layout.positions) > 2
        self._shortest = _SHORTEST_ALAC if is_wide_alac else 0

    def ready(self, samples: Samples) -> list[av.AudioFrame]:
        """Frames as long as the encoder takes them; what is left waits for the next block."""
        frames = []
        for first in range(0, len(samples), _FRAMES_AT_ONCE):
            self._fifo.write(self._frame(samples[first : first + _FRAMES_AT_ONCE]))
            while self._fifo.samples >= self._frame_size:
                frame = self._fifo.read(self._frame_size)
                frames += [frame] if frame else []
        return frames

    def put(self, ready: list[av.AudioFrame]) -> None:
        for frame in ready:
            self.put_packets(self.encode(frame))

    @abstractmethod
    def put_packets(self, packets: Packets) -> None:
        """Write what was encoded."""

    def encode(self, frame: av.AudioFrame | None) -> Packets:
        """What the encoder makes of a frame, or still has (None)."""
        return list(self._codec.encode(frame))

    def flush(self) -> None:
        """Encode and write what is left."""
        left = self._fifo.samples
        last = self._fifo.read() if left else None
        packets = self.encode(self._long_enough(last)) if last else []
        packets += self.encode(None)
        if packets and 0 < left < self._shortest:
            packets[-1].duration = left
        self.put_packets(packets)

    def _long_enough(self, last: av.AudioFrame) -> av.AudioFrame:
        """The last frame, filled with silence where the encoder would run over the end of its own memory."""
        if last.samples >= self._shortest:
            return last
        lacking = self._shortest - last.samples
        planes: NDArray[Any] = np.pad(last.to_ndarray(), ((0, 0), (0, lacking)))
        filled = av.AudioFrame.from_ndarray(planes, format=self._format, layout=self._layout)
        filled.sample_rate, filled.time_base, filled.pts = last.sample_rate, last.time_base, last.pts
        return filled

    def _frame(self, samples: Samples) -> av.AudioFrame:
        is_wide = samples.shape[1] >= MOST_PLANES and self._format.endswith("p")
        name = self._format.removesuffix("p") if is_wide else self._format
        planes = _planes(samples, self._output, name)
        frame = av.AudioFrame.from_ndarray(planes, format=name, layout=self._layout)
        frame.sample_rate = self._output.sample_rate_hz
        if is_wide:
            frame = in_format(frame, self._format)
        frame.time_base = Fraction(1, self._output.sample_rate_hz)
        frame.pts = self._done
        self._done += len(samples)
        return frame


class AvSink(FramesSink):
    """Encodes with one of FFmpeg's encoders into one of its containers."""

    def __init__(self, path: Path, output: OutputFormat) -> None:
        self._container = av.open(str(path), "w", format=_MUXERS[output.container], options=_muxing(output))
        stream = self._container.add_stream(
            _CODECS[output.coding], rate=output.sample_rate_hz, options=_options(output)
        )
        assert isinstance(stream, av.AudioStream)
        self._stream = stream
        _set_up(stream.codec_context, output)
        super().__init__(output, stream.codec_context)

    def encode(self, frame: av.AudioFrame | None) -> Packets:
        return list(self._stream.encode(frame))

    def put_packets(self, packets: Packets) -> None:
        self._container.mux(packets)

    def close(self) -> None:
        try:
            self.flush()
        finally:
            self._container.close()


def alac_encoder(output: OutputFormat) -> av.AudioCodecContext:
    """An encoder without a container."""
    codec = av.CodecContext.create("alac", "w")
    assert isinstance(codec, av.AudioCodecContext)
    codec.sample_rate = output.sample_rate_hz
    codec.time_base = Fraction(1, output.sample_rate_hz)
    _set_up(codec, output)
    return codec


def _set_up(codec: av.AudioCodecContext, output: OutputFormat) -> None:
    codec.layout = _LAYOUTS[len(output.layout.positions)]
    codec.flags |= av.codec.context.Flags.bitexact
    if output.bitrate_kbps:
        codec.bit_rate = round(output.bitrate_kbps * 1000)
    codec.format = _sample_format(output)
    codec.open()


class VorbisSink(Sink):
    """Encodes Vorbis, which has qualities instead of bit rates: with the one whose nominal bit rate is set."""

    def __init__(self, path: Path, output: OutputFormat, serial: int) -> None:
        self._path, self._serial = path, serial
        channels = len(output.layout.positions)
        nominal_kbps = output.nominal_kbps or output.bitrate_kbps or 0.0
        quality = float(np.interp(nominal_kbps * 2 / channels, _VORBIS_KBPS, range(11))) / 10.0
        self._file = soundfile.SoundFile(
            path,
            "w",
            samplerate=output.sample_rate_hz,
            channels=channels,
            format="OGG",
            subtype="VORBIS",
            compression_level=1.0 - quality,
        )

    def put(self, ready: Samples) -> None:
        order = _VORBIS_ORDER.get(ready.shape[1])
        samples = (ready if order is None else ready[:, order]).astype(np.float32)
        for first in range(0, len(samples), _VORBIS_FRAMES_AT_ONCE):
            self._file.write(samples[first : first + _VORBIS_FRAMES_AT_ONCE])

    def close(self) -> None:
        self._file.close()
        settle_serial(self._path, self._serial)


def _muxing(output: OutputFormat) -> dict[str, str]:
    """An edit list counts in the clock of the whole file: with that of the samples it is exact to one."""
    exact = {"movie_timescale": str(output.sample_rate_hz)} if output.container == "m4a" else {}
    return {"fflags": "+bitexact", **exact}


def _options(output: OutputFormat) -> dict[str, str]:
    is_variable, channels = output.bitrate_mode == "variable", len(output.layout.positions)
    if output.encoding == "opus":
        return {"vbr": "on" if is_variable else "off", "mapping_family": "-1" if channels <= 2 else "1"}
    if output.dialnorm_db is not None:
        return {"dialnorm": str(output.dialnorm_db)}
    return {}


def _sample_format(output: OutputFormat) -> str:
    if output.lossless == "alac":
        return "s16p" if output.bits == 16 else "s32p"
    return "flt" if output.encoding == "opus" else "fltp"


def _planes(samples: Samples, output: OutputFormat, name: str) -> NDArray[Any]:
    """Samples as FFmpeg wants them: integers with their bits at the top, channel after channel where planar."""
    if output.bits:
        dtype = np.int16 if output.bits == 16 else np.int32
        shift = 0 if output.bits == 16 else 32 - output.bits
        values = np.left_shift(samples.astype(np.int32), shift).astype(dtype)
    else:
        values = samples.astype(np.float32)
    ordered = values.T if name.endswith("p") else values.reshape(1, -1)
    return np.ascontiguousarray(ordered)
