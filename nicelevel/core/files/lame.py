"""MP3 by LAME itself: Debian's library, three times as quick as the one that comes with PyAV, and without its
attenuation (LAME takes up to 5 % off the signal unless it is told not to).

The exact length goes into the tag frame that is written over the first one at the end.
"""

import ctypes
from functools import cache
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from ..errors import UnsupportedError
from ..values import OutputFormat
from .blocks import Samples
from .sink import Sink

_LIBRARY = "libmp3lame.so.0"
_CONSTANT, _MEAN = 0, 3  # vbr_off and vbr_abr of lame.h
_JOINT_STEREO, _MONO = 1, 3
_FRAMES_AT_ONCE = 1 << 14
_ROOM_BYTES = 2 * _FRAMES_AT_ONCE + 7200
"""lame.h: 1.25 bytes a frame and 7200 at most."""


@cache
def _library() -> ctypes.CDLL:
    try:
        library = ctypes.CDLL(_LIBRARY)
    except OSError as error:
        raise UnsupportedError("MP3 cannot be written: Debian's package libmp3lame0 is missing.") from error
    floats = ctypes.POINTER(ctypes.c_float)
    library.lame_init.restype = ctypes.c_void_p
    library.lame_encode_buffer_ieee_float.argtypes = [
        ctypes.c_void_p, floats, floats, ctypes.c_int, ctypes.c_char_p, ctypes.c_int,
    ]  # fmt: skip
    library.lame_encode_flush.argtypes = [ctypes.c_void_p, ctypes.c_char_p, ctypes.c_int]
    library.lame_get_lametag_frame.argtypes = [ctypes.c_void_p, ctypes.c_char_p, ctypes.c_size_t]
    library.lame_get_lametag_frame.restype = ctypes.c_size_t
    library.lame_set_scale.argtypes = [ctypes.c_void_p, ctypes.c_float]
    return library


class LameSink(Sink):
    """Encodes blocks of frames × 1 or 2 channels."""

    def __init__(self, path: Path, output: OutputFormat) -> None:
        self._lame, self._encoder = _library(), ctypes.c_void_p(_library().lame_init())
        channels, kbps = len(output.layout.positions), round(output.bitrate_kbps or 0.0)
        is_mean = output.bitrate_mode == "variable"
        for name, value in (
            ("num_channels", channels),
            ("in_samplerate", output.sample_rate_hz),
            ("out_samplerate", output.sample_rate_hz),
            ("mode", _MONO if channels == 1 else _JOINT_STEREO),
            ("VBR", _MEAN if is_mean else _CONSTANT),
            ("VBR_mean_bitrate_kbps" if is_mean else "brate", kbps),
            ("bWriteVbrTag", 1),
        ):
            getattr(self._lame, f"lame_set_{name}")(self._encoder, value)
        self._lame.lame_set_scale(self._encoder, 1.0)
        if self._lame.lame_init_params(self._encoder) < 0:
            self._lame.lame_close(self._encoder)
            raise UnsupportedError(f"MP3 cannot be written at {output.sample_rate_hz} Hz and {kbps} kbit/s.")
        self._room = ctypes.create_string_buffer(_ROOM_BYTES)
        self._file = path.open("w+b")

    def ready(self, samples: Samples) -> list[NDArray[np.float32]]:
        """Channels × frames, no longer than there is room for what comes of them."""
        parts = (samples[first : first + _FRAMES_AT_ONCE] for first in range(0, len(samples), _FRAMES_AT_ONCE))
        return [np.ascontiguousarray(part.T, np.float32) for part in parts]

    def put(self, ready: list[NDArray[np.float32]]) -> None:
        for part in ready:
            sides = [plane.ctypes.data_as(ctypes.POINTER(ctypes.c_float)) for plane in (part[0], part[-1])]
            self._keep(
                self._lame.lame_encode_buffer_ieee_float(
                    self._encoder, *sides, part.shape[1], self._room, _ROOM_BYTES
                )
            )

    def _keep(self, count: int) -> None:
        if count < 0:
            raise UnsupportedError("MP3 cannot be written: the encoder gave up.")
        self._file.write(self._room.raw[:count])

    def close(self) -> None:
        try:
            self._keep(self._lame.lame_encode_flush(self._encoder, self._room, _ROOM_BYTES))
            tag_bytes = self._lame.lame_get_lametag_frame(self._encoder, self._room, _ROOM_BYTES)
            self._file.seek(0)
            self._file.write(self._room.raw[:tag_bytes])
        finally:
            self._file.close()
            self._lame.lame_close(self._encoder)
