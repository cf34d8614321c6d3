"""Decoding through FFmpeg's libraries what libsndfile cannot: AAC and ALAC in MP4, and the audio of video files.

The demuxer is named by us, from the first bytes of the file: a text that poses as a playlist opens nothing.
"""

from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path
from typing import Any

import av
import numpy as np
from av.audio.fifo import AudioFifo
from av.stream import Disposition
from numpy.typing import NDArray

from ..channels import Layout, layout_from_count, layout_from_mask
from ..errors import DamagedError, EmptyError, NotAudioError, UnsupportedError
from ..units import seconds_from_frames
from ..values import Source
from .ac3 import read_dialnorm_db
from .blocks import Block, exact_in_single
from .codes import CodeBuffer, coding_of

# First bytes, where they stand, and the demuxer that reads such a file.
_MAGICS = (
    (4, b"ftyp", "mov"),
    (4, b"moov", "mov"),
    (4, b"mdat", "mov"),
    (4, b"wide", "mov"),
    (0, b"\x1aE\xdf\xa3", "matroska"),
    (8, b"AVI ", "avi"),
    (0, b"\xff\xf1", "aac"),
    (0, b"\xff\xf9", "aac"),
    (0, b"\x0bw", "ac3"),
    (0, b"OggS", "ogg"),
    (0, b"caff", "caf"),
    (0, b"fLaC", "flac"),
)
_PCM_CODECS = {
    "pcm_u8": ("pcm_u8", 8),
    "pcm_s8": ("pcm_8", 8),
    "pcm_s16": ("pcm_16", 16),
    "pcm_s24": ("pcm_24", 24),
    "pcm_s32": ("pcm_32", 32),
    "pcm_f32": ("float_32", None),
    "pcm_f64": ("float_64", None),
}
_LOSSLESS = frozenset({"alac", "flac"})
_POSITIONS = (
    *("FL", "FR", "FC", "LFE", "BL", "BR", "FLC", "FRC", "BC", "SL", "SR"),
    *("TC", "TFL", "TFC", "TFR", "TBL", "TBC", "TBR"),
)
"""FFmpeg's names in the bit order of the WAVE mask."""
_CONTAINERS = {"matroska": "mkv"}

_TICKING_IN_FRAMES = frozenset({"mov", "caf"})
"""Demuxers that can begin at any frame, where the container's clock allows it."""

MOST_PLANES = 8
"""From so many channels on, PyAV runs over the end of its list where each has a plane of its own."""

DECODED_AT_ONCE = 1 << 14

LEAD_FRAMES = 8192
"""Decoding begins so long before the frame that is asked for: two frames of ALAC, eight of AAC."""


def demuxer_of(start: bytes) -> str | None:
    """The demuxer for a file that begins so, or None."""
    return next((name for at, magic, name in _MAGICS if start[at : at + len(magic)] == magic), None)


class AvDecoder:
    """The first audio stream of one file, described and then read from its start."""

    opens_at_once, is_coded = False, True

    def __init__(self, path: Path, size_bytes: int, demuxer: str, known_frames: int | None = None) -> None:
        """known_frames: its length, where that is known from elsewhere."""
        self._path, self._demuxer, self._known_frames = path, demuxer, known_frames
        self._container = _open(path, demuxer)
        try:
            self._stream = self._container.streams.audio[0]
        except IndexError as error:
            self._container.close()
            raise NotAudioError("The file holds no audio stream.") from error
        self.source = self._describe(size_bytes)
        self.coding = coding_of(self.source)
        self._dtype = np.dtype(np.float32 if exact_in_single(self.source) else np.float64)
        self._arrays = self._decoded(self._container)
        self._rest: Block = np.empty((0, self.source.channels), self._dtype)

    def read(self, frames: int) -> Block:
        """The next frames × channels. Raises DamagedError where the stream breaks."""
        block, have = np.empty((frames, self.source.channels), self._dtype), 0
        while have < frames and len(part := self._next(frames - have)):
            block[have : have + len(part)] = part
            have += len(part)
        return block[:have]

    def read_into(self, buffer: CodeBuffer, first: int, last: int) -> int:
        """Fill frames of a buffer; how many were. Raises as `read`."""
        at = first
        while at < last and len(part := self._next(last - at)):
            buffer.put(at, part)
            at += len(part)
        return at - first

    def _next(self, most: int) -> Block:
        """Frames × channels of what was decoded last, or comes next; none at the end."""
        part = self._rest if len(self._rest) else next(self._arrays, self._rest)
        self._rest = part[most:]
        return part[:most]

    def seek(self, frame: int) -> None:
        """Go on reading from a frame: where the container's clock ticks in frames, times are exact."""
        if not self.can_seek:
            raise UnsupportedError("This file can only be read from its start.")
        # A coded frame is whole only with the one before it, and the ones that a decoder begins with are not whole.
        self._rest = self._rest[:0]
        if frame < LEAD_FRAMES:
            # The start is found by opening: what an encoder put before it is skipped there alone.
            self._container.close()
            self._container = _open(self._path, self._demuxer)
            self._stream = self._container.streams.audio[0]
            self._arrays = self._decoded(self._container)
            self.read(frame)
            return
        self._container.seek(frame - LEAD_FRAMES, stream=self._stream, backward=True)
        self._stream.codec_context.flush_buffers()
        self._arrays = self._decoded(self._container, frame)

    @property
    def can_seek(self) -> bool:
        """Whether the container's clock ticks in frames."""
        base = self._stream.time_base
        return self._demuxer in _TICKING_IN_FRAMES and base is not None and 1 / base == self.source.sample_rate_hz

    def close(self) -> None:
        self._container.close()

    def _decoded(self, container: av.container.InputContainer, first: int = 0) -> Iterator[Block]:
        """Frames × channels from a frame on, which the container stands shortly before; from the start: all."""
        # Gathered, for what is done with each array takes longer than decoding a short frame.
        fifo, at = AudioFifo(), 0
        try:
            for frame in container.decode(container.streams.audio[0]):
                if first and not at and not fifo.samples:
                    at = frame.pts or 0
                self._check_same(frame, at + fifo.samples)
                # A time stamp that does not follow on the one before would be refused.
                frame.pts = None
                fifo.write(frame)
                if fifo.samples >= max(DECODED_AT_ONCE, first - at + 1):
                    block = _taken(fifo)
                    yield block[max(0, first - at) :]
                    at += len(block)
            if fifo.samples > max(0, first - at):
                yield _taken(fifo)[max(0, first - at) :]
        except av.FFmpegError as error:
            where = self._time(at + fifo.samples)
            raise DamagedError(f"The audio breaks at {where}: the data there is damaged.") from error

    def _check_same(self, frame: av.AudioFrame, done: int) -> None:
        if frame.sample_rate != self.source.sample_rate_hz:
            raise DamagedError(f"The sample rate changes at {self._time(done)}.")
        if frame.layout.nb_channels != self.source.channels:
            raise DamagedError(f"The number of channels changes at {self._time(done)}.")

    def _time(self, frame: int) -> str:
        return f"{seconds_from_frames(frame, self.source.sample_rate_hz):.3f} s"

    def _describe(self, size_bytes: int) -> Source:
        codec = self._stream.codec_context
        if not codec.sample_rate:
            raise UnsupportedError(f"The audio is {codec.name}, which cannot be decoded.")
        encoding, bits = _encoding_of(codec)
        source = Source(
            path=self._path,
            size_bytes=size_bytes,
            container=self._container_name(),
            encoding=encoding,
            sample_rate_hz=codec.sample_rate,
            layout=_layout_of(codec.layout),
            frames=0,
            bits_declared=bits,
            dialnorm_db=read_dialnorm_db(self._path) if self._demuxer == "ac3" else None,
        )
        return self._with_length(source)

    def _with_length(self, source: Source) -> Source:
        """The exact length where the container states it in frames, else by decoding once; with the mean bit rate."""
        self.source = source
        self._dtype = np.dtype(np.float32)
        stated = self._known_frames or self._stated_frames(source.sample_rate_hz)
        coded_bytes, counted = self._count(decode=stated is None)
        frames = counted if stated is None else stated
        if frames == 0:
            raise EmptyError("The file has a header, but not one frame of audio.")
        duration_s = seconds_from_frames(frames, source.sample_rate_hz)
        uncompressed = source.encoding.startswith(("pcm", "float"))
        return replace(
            source, frames=frames, bitrate_kbps=None if uncompressed else coded_bytes * 8 / duration_s / 1000
        )

    def _stated_frames(self, sample_rate_hz: int) -> int | None:
        """Length by the container, where its clock ticks in frames; Ogg's counts what a decoder is to skip too."""
        duration, time_base = self._stream.duration, self._stream.time_base
        if self._demuxer == "ogg" or not time_base or time_base.denominator % sample_rate_hz:
            return None
        if not duration or duration < 0:  # less may be stated than is to be taken off it
            return None
        return round(duration * time_base * sample_rate_hz)

    def _count(self, decode: bool) -> tuple[int, int]:
        """Coded bytes of the stream, and its frames where they are to be counted."""
        try:
            with _open(self._path, self._demuxer) as container:
                coded_bytes = sum(packet.size for packet in container.demux(container.streams.audio[0]))
        except av.FFmpegError as error:
            raise DamagedError("The file breaks off inside: its audio cannot be followed to the end.") from error
        if not decode:
            return coded_bytes, 0
        with _open(self._path, self._demuxer) as container:
            return coded_bytes, sum(len(array) for array in self._decoded(container))

    def _container_name(self) -> str:
        if self._demuxer == "mov":
            with self._path.open("rb") as file:
                brand = file.read(12)[8:12]
            # A front cover is a stream of one picture, and makes no film.
            films = [
                each for each in self._container.streams.video if Disposition.attached_pic not in each.disposition
            ]
            video = bool(films)
            return "mov" if brand == b"qt  " else "mp4" if video else "m4a"
        return _CONTAINERS.get(self._demuxer, self._demuxer)


def _open(path: Path, demuxer: str) -> av.container.InputContainer:
    try:
        container: av.container.InputContainer = av.open(
            _openable(path), format=demuxer, options={"protocol_whitelist": "file"}
        )
        if demuxer == "caf":
            # It would take what is unused in the last packet away from a last frame that is short already.
            for stream in container.streams.audio:
                stream.codec_context.flags2 |= av.codec.context.Flags2.skip_manual
        return container
    except (av.FFmpegError, ValueError) as error:
        raise DamagedError(f"The header cannot be understood: {str(error).partition(':')[0]}.") from error


def _openable(path: Path) -> Any:
    """FFmpeg takes names as text: a name that is none is opened for it."""
    try:
        str(path).encode()
    except UnicodeEncodeError:
        return path.open("rb")
    return str(path)


def _encoding_of(codec: av.AudioCodecContext) -> tuple[str, int | None]:
    """Our name of the encoding, and the word length where it has one."""
    kind = codec.name.removesuffix("le").removesuffix("be")
    if kind in _PCM_CODECS:
        return _PCM_CODECS[kind]
    if codec.name in _LOSSLESS:
        return codec.name, _lossless_bits(codec)
    return codec.name.removesuffix("float").removesuffix("_latm"), None


def _lossless_bits(codec: av.AudioCodecContext) -> int | None:
    """Word length from the codec's own header: ALAC's magic cookie, FLAC's STREAMINFO (RFC 9639, 8.2)."""
    head = codec.extradata or b""
    if codec.name == "alac" and len(head) >= 18:
        return head[17]
    if codec.name == "flac" and len(head) >= 14:
        return ((head[12] & 1) << 4 | head[13] >> 4) + 1
    return None


def _layout_of(layout: av.AudioLayout) -> Layout:
    names = [channel.name for channel in layout.channels]
    if not all(name in _POSITIONS for name in names):
        return layout_from_count(len(names))
    mask = sum(1 << _POSITIONS.index(name) for name in names)
    return layout_from_mask(mask, len(names)) or layout_from_count(len(names))


def _taken(fifo: AudioFifo) -> Block:
    """All that was gathered, frames × channels, ±1.0 at full scale, from any sample format."""
    frame = fifo.read()
    assert frame
    if frame.format.is_planar and frame.layout.nb_channels >= MOST_PLANES:
        frame = in_format(frame, frame.format.packed.name)
    array: NDArray[Any] = frame.to_ndarray()
    samples = _interleaved(array) if frame.format.is_planar else array.reshape(-1, frame.layout.nb_channels)
    if samples.dtype == np.uint8:
        return (samples.astype(np.float64) - 128.0) / 128.0
    if samples.dtype.kind == "i":
        return samples / 2.0 ** (8 * samples.dtype.itemsize - 1)
    return samples


def in_format(frame: av.AudioFrame, name: str) -> av.AudioFrame:
    """The same samples in another arrangement of the same words."""
    (converted,) = av.AudioResampler(format=name).resample(frame)
    converted.pts = frame.pts
    return converted


def _interleaved(planes: NDArray[Any]) -> NDArray[Any]:
    """Frames × channels side by side: channel after channel, five times as fast as by one transposition."""
    samples = np.empty(planes.shape[::-1], planes.dtype)
    for channel, plane in enumerate(planes):
        samples[:, channel] = plane
    return samples
