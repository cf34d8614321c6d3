"""ALAC in a Core Audio Format file: FFmpeg's encoder in a container of our own.

libsndfile writes past its memory here, and FFmpeg's own container loses the exact length. The chunks are those of the
Core Audio Format Specification 1.0 (`desc`, `chan`, `kuki`, `data`, `pakt`).
"""

import struct
from pathlib import Path

from ..values import OutputFormat
from .encode import FramesSink, Packets, alac_encoder

_COOKIE_BYTES = 24
"""ALACSpecificConfig: the last bytes of what the encoder says of itself."""

_BITS_FLAG = {16: 1, 24: 3}
"""kAppleLosslessFormatFlag: the word length of what was packed."""


class CafAlacSink(FramesSink):
    """Takes blocks of integer codes; the table of packets and the sizes are written when the file is closed."""

    def __init__(self, path: Path, output: OutputFormat, frames: int) -> None:
        self._encoder = alac_encoder(output)
        super().__init__(output, self._encoder)
        self._frames, self._sizes_bytes = frames, list[int]()
        self._file = path.open("wb")
        self._file.write(self._head(output))
        self._data_at = self._file.tell()
        self._file.write(struct.pack(">4sqI", b"data", 0, 0))

    def _head(self, output: OutputFormat) -> bytes:
        channels, flag = len(output.layout.positions), _BITS_FLAG[output.bits or 24]
        described = struct.pack(
            ">d4sIIIII", float(output.sample_rate_hz), b"alac", flag, 0, self._encoder.frame_size, channels, 0
        )
        cookie = bytes(self._encoder.extradata or b"")[-_COOKIE_BYTES:]
        return struct.pack(">4sHH", b"caff", 1, 0) + _chunk(b"desc", described) + _chunk(b"kuki", cookie)

    def put_packets(self, packets: Packets) -> None:
        for packet in packets:
            self._sizes_bytes.append(packet.size)
            self._file.write(bytes(packet))

    def close(self) -> None:
        try:
            self.flush()
            data_bytes = 4 + sum(self._sizes_bytes)
            unused = self._encoder.frame_size * len(self._sizes_bytes) - self._frames
            table = struct.pack(">qqii", len(self._sizes_bytes), self._frames, 0, unused)
            self._file.write(_chunk(b"pakt", table + b"".join(map(_variable_length, self._sizes_bytes))))
            self._file.seek(self._data_at)
            self._file.write(struct.pack(">4sqI", b"data", data_bytes, 0))
        finally:
            self._file.close()


def _chunk(name: bytes, contents: bytes) -> bytes:
    return struct.pack(">4sq", name, len(contents)) + contents


def _variable_length(number: int) -> bytes:
    """Seven bits a byte, the highest first; all but the last have their top bit set."""
    parts = [number & 0x7F]
    while number := number >> 7:
        parts.append(number & 0x7F | 0x80)
    return bytes(reversed(parts))
