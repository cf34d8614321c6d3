"""Take in a file: describe it, then yield its samples in blocks. Nothing here ever opens one for writing."""

import errno
import math
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from types import TracebackType
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ..errors import (
    EmptyError,
    NiceLevelError,
    NonFiniteError,
    NoPermissionError,
    NotAudioError,
    NotFoundError,
    TruncatedError,
    UnsupportedError,
)
from ..units import seconds_from_frames
from ..values import Shape, Source
from .beside import decoder_beside, is_beside, open_beside
from .blocks import Block, Decoder, truncated
from .codes import CodeBuffer, Coding
from .headers import Header, read_header
from .mp3_frames import counted_frames
from .ogg import ending_of
from .raw_pcm import RawDecoder, describe_raw
from .selected import Selected
from .with_soundfile import SoundfileDecoder

LOWEST_RATE_HZ, HIGHEST_RATE_HZ = 2_000, 768_000
MOST_CHANNELS = 128
START_BYTES = 32
MOST_FRAMES = 1 << 50
"""What states more does not know its length: FLAC may leave it out (RFC 9639, 8.2)."""


# libsndfile reads these too, but not with more than two channels in an order that is certain.
_STEREO_AT_MOST = frozenset({"ogg"})


@dataclass
class Audio:
    """An open source: a signal. A context manager; `blocks` may be asked for once."""

    source: Source
    _decoder: Decoder

    def __enter__(self) -> "Audio":
        return self

    def __exit__(self, kind: type | None, error: BaseException | None, trace: TracebackType | None) -> None:
        self.close()

    def close(self) -> None:
        self._decoder.close()

    @property
    def shape(self) -> Shape:
        """Rate, layout and length."""
        return self.source.shape

    def only(self, channels: Sequence[int]) -> Selected:
        """Some of its channels, by number from 0."""
        return Selected(self, channels)

    def blocks(self, frames: int) -> Iterator[Block]:
        """Yield the samples in arrays of frames × channels, ±1.0 at full scale, the last one shorter.

        float32 where that is exact (24 bits and less, 32-bit floats, lossy), else float64.
        Raises TruncatedError, DamagedError or NonFiniteError where the audio is not what was promised.
        """
        done = 0
        while done < self.source.frames:
            block = self._decoder.read(min(frames, self.source.frames - done))
            if len(block) == 0:
                raise truncated(done, self.source.frames, self.source.sample_rate_hz)
            self._check(block, done)
            done += len(block)
            yield block

    def window(self, first: int, last: int) -> Block:
        """Some frames × channels from anywhere, as `blocks` gives them. Raises as that, or UnsupportedError."""
        self._decoder.seek(first)
        parts, have = [], 0
        while have < last - first and len(block := self._decoder.read(last - first - have)):
            parts.append(block)
            have += len(block)
        return np.concatenate(parts) if parts else np.empty((0, self.source.channels), np.float32)

    @property
    def can_seek(self) -> bool:
        """Whether `window` may be asked for."""
        return self._decoder.can_seek

    @property
    def opens_at_once(self) -> bool:
        """Whether opening takes no longer for long files than for short ones."""
        return self._decoder.opens_at_once

    @property
    def coding(self) -> Coding:
        """How the samples are held that `read_into` fills a buffer with."""
        return self._decoder.coding

    def read_into(self, buffer: CodeBuffer, first: int, last: int, done: int) -> int:
        """Fill frames of a buffer, after `done` of the file; how many were, 0 at the end. Raises as `blocks`."""
        last = min(last, first + self.source.frames - done)
        if last == first:
            return 0
        frames = self._decoder.read_into(buffer, first, last)
        if frames == 0:
            raise truncated(done, self.source.frames, self.source.sample_rate_hz)
        self._check(buffer.codes[first : first + frames], done)
        return frames

    @property
    def is_coded(self) -> bool:
        """Whether decoding takes longer than measuring what comes of it."""
        return self._decoder.is_coded

    def code_blocks(self, frames: int) -> Iterator[NDArray[Any]]:
        """Yield the samples in arrays of frames × channels, as `coding` has them. Raises as `blocks`."""
        done = 0
        while done < self.source.frames:
            buffer = CodeBuffer(self.coding, self.source.channels, min(frames, self.source.frames - done))
            count = self.read_into(buffer, 0, len(buffer.codes), done)
            done += count
            yield buffer.codes[:count]

    def _check(self, block: Block, done: int) -> None:
        if self.source.bits_declared is not None:
            return
        # Where the sum is finite all are, and it is there ten times as fast as an answer for each.
        with np.errstate(over="ignore", invalid="ignore"):
            if math.isfinite(block.sum()):
                return
        finite = np.isfinite(block).all(axis=1)
        if not finite.all():
            where = seconds_from_frames(done + int(np.argmin(finite)), self.source.sample_rate_hz)
            raise NonFiniteError(f"Some samples are not numbers (NaN or infinite), first at {where:.3f} s.")


def take_in(path: str | Path) -> Audio:
    """Open an audio file, or a video file's audio, for reading and describe it.

    Raises the NiceLevelError named for the cause where it cannot be used.
    """
    path = Path(path)
    return _sensible(open_beside(path, _open) if is_beside(path) else _open(path))


def take_in_beside(layout: str, paths: Sequence[Path]) -> Audio:
    """Open files of one channel as the channels of one signal, in the order of a layout. Raises as `take_in`."""
    return _sensible(decoder_beside(paths[0], layout, paths, _open))


def _sensible(decoder: Decoder) -> Audio:
    try:
        _check_sense(decoder.source)
    except NiceLevelError:
        decoder.close()
        raise
    return Audio(decoder.source, decoder)


def _size_of(path: Path) -> int:
    try:
        size_bytes = path.stat().st_size
    except (FileNotFoundError, NotADirectoryError) as error:
        raise NotFoundError(f"There is no file {_shown(path)}.") from error
    except ValueError as error:
        raise NotFoundError(f"{_shown(path)} is a name that no file can have.") from error
    except OSError as error:
        if error.errno in (errno.ELOOP, errno.ENAMETOOLONG):
            raise NotFoundError(f"There is no file {_shown(path)}: {_reason(error)}.") from error
        raise NoPermissionError(f"{path.name} cannot be reached: {_reason(error)}.") from error
    if not path.is_file():
        raise NotAudioError(f"{path.name} is not a file.")
    if size_bytes == 0:
        raise EmptyError("The file is empty: 0 bytes.")
    return size_bytes


def _open(path: Path) -> Decoder:
    """The decoder for a file: our own for plain samples, then libsndfile, FFmpeg's libraries where that cannot."""
    size_bytes = _size_of(path)
    try:
        with path.open("rb") as file:
            header = read_header(file, size_bytes)
            file.seek(0)
            start = file.read(START_BYTES)
    except OSError as error:
        raise NoPermissionError(f"{path.name} may not be read: {_reason(error)}.") from error
    if header is not None and header.container == "ogg" and ending_of(path) == "inside a page":
        raise TruncatedError("The file ends in the middle of a page: it broke off on its way.")
    described = describe_raw(path, size_bytes, header) if header else None
    if header is not None and described is not None:
        return RawDecoder(described, header)
    if header is not None and header.container == "mp3":
        return _mp3(path, size_bytes, header)
    if header is not None and not _is_alac_in_caf(start):
        decoder = SoundfileDecoder(path, size_bytes, header)
        if decoder.source.frames > MOST_FRAMES:
            decoder.close()
            return _with_counted_frames(path, size_bytes, start)
        if header.container not in _STEREO_AT_MOST or decoder.source.channels <= 2:
            return decoder
        decoder.close()
    return _with_counted_frames(path, size_bytes, start)


def _mp3(path: Path, size_bytes: int, header: Header) -> Decoder:
    """By libsndfile, whose guess at a length that the file does not state is not believed.

    Nor is what a file states that can be no length: then the samples are counted.
    """
    counted = counted_frames(path)
    decoder = SoundfileDecoder(path, size_bytes, header)
    is_known = decoder.source.frames <= MOST_FRAMES
    if is_known and counted in (None, decoder.source.frames):
        return decoder
    decoder.close()
    if counted is not None and counted < decoder.source.frames:
        return SoundfileDecoder(path, size_bytes, replace(header, promised_frames=counted))
    # It would read no further than it guessed.
    from .with_av import AvDecoder

    return AvDecoder(path, size_bytes, "mp3", counted)


def _with_counted_frames(path: Path, size_bytes: int, start: bytes) -> Decoder:
    """The decoder of FFmpeg's libraries, which counts where no length is stated."""
    # Loaded only here: most calls never need it, and it is large.
    from .with_av import AvDecoder, demuxer_of

    demuxer = demuxer_of(start)
    if demuxer is None:
        raise NotAudioError("This is not an audio file: it begins like none that is known.")
    return AvDecoder(path, size_bytes, demuxer)


def _is_alac_in_caf(start: bytes) -> bool:
    """libsndfile reads some of its frames of 24 bits wrongly. The codec stands in the first chunk, `desc`."""
    return start.startswith(b"caff") and start[28:32] == b"alac"


def _check_sense(source: Source) -> None:
    if not LOWEST_RATE_HZ <= source.sample_rate_hz <= HIGHEST_RATE_HZ:
        raise UnsupportedError(
            f"A sample rate of {source.sample_rate_hz} Hz is outside {LOWEST_RATE_HZ} to {HIGHEST_RATE_HZ} Hz."
        )
    if source.channels > MOST_CHANNELS:
        raise UnsupportedError(f"{source.channels} channels are more than the {MOST_CHANNELS} that can be taken in.")


def _shown(path: Path) -> str:
    """A name as a sentence can hold it."""
    name = path.name if len(path.name) <= 80 else f"{path.name[:60]}…"
    return "".join(sign if sign.isprintable() else "\N{REPLACEMENT CHARACTER}" for sign in name)


def _reason(error: Exception) -> str:
    return (getattr(error, "strerror", None) or str(error)).lower()
