"""Decoding through libsndfile: WAVE and its kin, AIFF, CAF, AU, FLAC, Ogg, MP3. Lengths are exact, gapless or not."""

import os
from contextlib import suppress
from pathlib import Path

import soundfile

from ..channels import Layout, layout_from_count, layout_from_flac, layout_from_mask
from ..errors import DamagedError, EmptyError, NiceLevelError, TruncatedError, UnsupportedError
from ..units import seconds_from_frames
from ..values import Source
from .blocks import Block, exact_in_single, truncated
from .codes import CodeBuffer, coding_of
from .headers import Header

DIAGNOSIS_FRAMES = 1024

# libsndfile's name of an encoding: ours, and the word length in bits (None for floating point and lossy).
_ENCODINGS = {
    "PCM_U8": ("pcm_u8", 8),
    "PCM_S8": ("pcm_8", 8),
    "PCM_16": ("pcm_16", 16),
    "PCM_24": ("pcm_24", 24),
    "PCM_32": ("pcm_32", 32),
    "FLOAT": ("float_32", None),
    "DOUBLE": ("float_64", None),
    "ULAW": ("ulaw", None),
    "ALAW": ("alaw", None),
    "ALAC_16": ("alac", 16),
    "ALAC_20": ("alac", 20),
    "ALAC_24": ("alac", 24),
    "ALAC_32": ("alac", 32),
    "VORBIS": ("vorbis", None),
    "OPUS": ("opus", None),
    "MPEG_LAYER_III": ("mp3", None),
}
_CODED = frozenset({"flac", "alac", "vorbis", "opus", "mp3", "ulaw", "alaw"})


class SoundfileDecoder:
    """One file, described and then read from its start."""

    can_seek = opens_at_once = is_coded = True

    def __init__(self, path: Path, size_bytes: int, header: Header) -> None:
        self._path = path
        try:
            self._file = soundfile.SoundFile(os.fsencode(path))  # which need not be text
        except soundfile.LibsndfileError as error:
            if header.present_frames is not None and header.present_frames < (header.promised_frames or 0):
                promised = f"{header.present_frames} of the {header.promised_frames} frames"
                raise TruncatedError(f"The file ends after {promised} that its header promises.") from error
            reason = error.error_string.removeprefix("Error : ").rstrip(".")
            # libsndfile says so of frames that it cannot follow.
            said = "its frames do not follow on each other" if "does not exist" in reason else reason
            raise DamagedError(f"The header cannot be understood: {said}.") from error
        self.source = self._describe(size_bytes, header)
        self._dtype = "float32" if exact_in_single(self.source) else "float64"
        self.coding = coding_of(self.source)

    def read(self, frames: int) -> Block:
        """The next frames × channels. Raises where the coded stream breaks."""
        try:
            block: Block = self._file.read(frames, dtype=self._dtype, always_2d=True)
        except soundfile.LibsndfileError as error:
            raise self._what_broke() from error
        return block

    def read_into(self, buffer: CodeBuffer, first: int, last: int) -> int:
        """Fill frames of a buffer; how many were. Raises where the coded stream breaks."""
        try:
            return len(self._file.read(out=buffer.codes[first:last]))
        except soundfile.LibsndfileError as error:
            raise self._what_broke() from error

    def seek(self, frame: int) -> None:
        """Go on reading from a frame."""
        try:
            self._file.seek(frame)
        except soundfile.LibsndfileError as error:
            raise self._what_broke() from error

    def close(self) -> None:
        self._file.close()

    def _describe(self, size_bytes: int, header: Header) -> Source:
        if self._file.subtype not in _ENCODINGS:
            raise UnsupportedError(f"Samples of the kind {self._file.subtype} cannot be taken in.")
        encoding, bits = _ENCODINGS[self._file.subtype]
        encoding = "flac" if header.container == "flac" else encoding
        frames = self._frames(header)
        duration_s = seconds_from_frames(frames, self._file.samplerate)
        return Source(
            path=self._path,
            size_bytes=size_bytes,
            container=header.container,
            encoding=encoding,
            sample_rate_hz=self._file.samplerate,
            layout=_layout_of(header, self._file.channels),
            frames=frames,
            bits_declared=bits,
            bitrate_kbps=size_bytes * 8 / duration_s / 1000 if encoding in _CODED else None,
        )

    def _frames(self, header: Header) -> int:
        """What the header promises, else what libsndfile finds. Raises where the file is shorter than promised."""
        found = self._file.frames
        frames = found if header.promised_frames is None else header.promised_frames
        if frames == 0:
            raise EmptyError("The file has a header, but not one frame of audio.")
        if header.container != "flac" and found < frames:
            raise truncated(found, frames, self._file.samplerate)
        return frames

    def _what_broke(self) -> NiceLevelError:
        """Read once more in small steps, to tell where a coded stream breaks and whether its file just ends there."""
        done = 0
        with self._path.open("rb") as raw, soundfile.SoundFile(raw) as file:
            with suppress(soundfile.LibsndfileError):
                while block_frames := len(file.read(DIAGNOSIS_FRAMES, dtype="float32")):
                    done += block_frames
            at_end = raw.tell() >= (self.source.size_bytes or 0)
        if at_end:
            return truncated(done, self.source.frames, self.source.sample_rate_hz)
        where = seconds_from_frames(done, self.source.sample_rate_hz)
        return DamagedError(f"The audio breaks at about {where:.3f} s: the data there is damaged.")


def _layout_of(header: Header, channels: int) -> Layout:
    if header.container == "flac":
        return layout_from_flac(channels)
    stated = layout_from_mask(header.channel_mask, channels) if header.channel_mask else None
    return stated or layout_from_count(channels)
