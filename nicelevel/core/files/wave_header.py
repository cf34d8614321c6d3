"""The bytes before the samples of a WAVE file that we write.

RIFF/WAVE with a plain format chunk for one and two channels, WAVEFORMATEXTENSIBLE with the channel
mask for more (Microsoft), RF64 with `ds64` past 4 GiB (EBU Tech 3306). No time stamps: the same
programme gives the same bytes.
"""

import struct
from collections.abc import Sequence

from ..channels import mask_of
from ..values import OutputFormat
from .containers import block_bytes, container_of, sample_bits
from .headers import UNKNOWN_SIZE_32

_TAG_PCM, _TAG_FLOAT, _TAG_EXTENSIBLE = 1, 3, 0xFFFE
_GUID_TAIL = bytes.fromhex("000000001000800000aa00389b71")


def wave_header(
    output: OutputFormat,
    data_bytes: int,
    more: Sequence[tuple[bytes, bytes]] = (),
    big_magic: bytes = b"RF64",
    is_big: bool = False,
) -> bytes:
    """Everything up to and with the head of the data chunk.

    more: further chunks before the samples; big_magic: RF64 or BW64 (ITU-R BS.2088), once it passes 4 GiB; is_big:
    or anyway.
    """
    big = is_big or container_of(output, data_bytes) == "rf64"
    frames = data_bytes // block_bytes(output)
    chunks = _chunk(b"fmt ", _format_body(output))
    if output.bits is None:
        chunks += _chunk(b"fact", struct.pack("<I", min(frames, UNKNOWN_SIZE_32)))
    chunks += b"".join(_chunk(name, body) for name, body in more)
    ds64_bytes = 36 if big else 0
    riff_bytes = 4 + ds64_bytes + len(chunks) + 8 + data_bytes + data_bytes % 2
    data_head = struct.pack("<4sI", b"data", UNKNOWN_SIZE_32 if big else data_bytes)
    if not big:
        return struct.pack("<4sI4s", b"RIFF", riff_bytes, b"WAVE") + chunks + data_head
    ds64 = _chunk(b"ds64", struct.pack("<QQQI", riff_bytes, data_bytes, frames, 0))
    return struct.pack("<4sI4s", big_magic, UNKNOWN_SIZE_32, b"WAVE") + ds64 + chunks + data_head


def _format_body(output: OutputFormat) -> bytes:
    tag = _TAG_FLOAT if output.bits is None else _TAG_PCM
    channels, align, bits = len(output.layout.positions), block_bytes(output), sample_bits(output)
    extensible = channels > 2
    plain = struct.pack(
        "<HHIIHH",
        _TAG_EXTENSIBLE if extensible else tag,
        channels,
        output.sample_rate_hz,
        output.sample_rate_hz * align,
        align,
        bits,
    )
    if not extensible:
        return plain if tag == _TAG_PCM else plain + struct.pack("<H", 0)
    return plain + struct.pack("<HHIH", 22, bits, mask_of(output.layout), tag) + _GUID_TAIL


def _chunk(name: bytes, body: bytes) -> bytes:
    return struct.pack("<4sI", name, len(body)) + body + b"\0" * (len(body) % 2)
