"""What the headers of audio files state about themselves.

The decoder quietly shortens a file that ends too early; these few fields tell what was promised.
Sources: RIFF/WAVE (Microsoft, IBM 1991) with WAVEFORMATEXTENSIBLE, RF64 (EBU Tech 3306),
AIFF and AIFF-C (Apple 1989, 1991), FLAC (RFC 9639), Wave64 (Sony 2003), CAF (Apple 2005), AU (from memory).
"""

import struct
from collections.abc import Iterator
from dataclasses import dataclass
from typing import BinaryIO

UNKNOWN_SIZE_32 = 0xFFFFFFFF
MAX_CHUNKS = 10_000
WAVE_MAGICS = {b"RIFF": "wav", b"RF64": "rf64", b"BW64": "bw64"}
"""First bytes of a WAVE file, and the container that they make it."""


@dataclass(frozen=True)
class Header:
    """Container name and what it promises; None where the header does not say.

    `present_frames`: what the file's size leaves room for, where that is known before decoding;
    `data_offset`: where uncompressed samples begin; `block_align`: bytes of a frame.
    """

    container: str
    channel_mask: int | None = None
    promised_frames: int | None = None
    present_frames: int | None = None
    data_offset: int | None = None
    block_align: int = 0


def read_header(file: BinaryIO, size_bytes: int) -> Header | None:
    """Header of a seekable file, or None where it is of no known kind."""
    file.seek(0)
    magic = file.read(16)
    if magic[:4] in WAVE_MAGICS and magic[8:12] == b"WAVE":
        return _read_wave(file, magic[:4], size_bytes)
    if magic[:4] == b"FORM" and magic[8:12] in (b"AIFF", b"AIFC"):
        return _read_aiff(file, size_bytes)
    if magic[:4] == b"fLaC":
        return _read_flac(file)
    if magic == _W64_RIFF:
        return _read_w64(file, size_bytes)
    if magic[:4] == b"caff":
        return _read_caf(file, size_bytes)
    if magic[:4] == b".snd":
        return Header("au", None, _au_frames(magic + file.read(8)))
    if magic[:4] == b"OggS":
        return Header("ogg")
    if magic[:3] == b"ID3" or (magic[:1] == b"\xff" and len(magic) > 1 and magic[1] & 0xE6 == 0xE2):
        return Header("mp3")  # layer III behind a tag, or its sync word itself
    return None


def _read_wave(file: BinaryIO, magic: bytes, size_bytes: int) -> Header:
    container = WAVE_MAGICS[magic]
    mask, block_align = None, 0
    for name, promised, start in chunks_of(file, "<", size_bytes):
        if name == b"fmt ":
            block_align, mask = _read_format(_body(file, start, min(promised, 40)))
        elif name == b"data":
            # A recorder that streams or was cut off leaves 0 or all ones: then the file's end decides.
            open_ended = promised in (0, UNKNOWN_SIZE_32) and start < size_bytes
            frames = promised // block_align if block_align and promised and not open_ended else None
            return Header(container, mask, frames, None, start, block_align)
    return Header(container, mask)


def _read_format(body: bytes) -> tuple[int, int | None]:
    if len(body) < 16:
        return 0, None
    tag, block_align = struct.unpack_from("<H", body, 0)[0], struct.unpack_from("<H", body, 12)[0]
    extensible = tag == 0xFFFE and len(body) >= 24
    return block_align, struct.unpack_from("<I", body, 20)[0] if extensible else None


def _read_aiff(file: BinaryIO, size_bytes: int) -> Header:
    for name, size, start in chunks_of(file, ">", size_bytes):
        if name == b"COMM" and size >= 8:
            return Header("aiff", None, struct.unpack(">I", _body(file, start, 8)[2:6])[0])
    return Header("aiff")


def _read_flac(file: BinaryIO) -> Header:
    file.seek(8)
    stream_info = file.read(34)
    if len(stream_info) < 34:
        return Header("flac")
    total = struct.unpack(">Q", stream_info[10:18])[0] & 0xFFFFFFFFF
    return Header("flac", None, total or None)


_W64_RIFF = b"riff\x2e\x91\xcf\x11\xa5\xd6\x28\xdb\x04\xc1\x00\x00"
_W64_HEAD_BYTES = 24


def _read_w64(file: BinaryIO, size_bytes: int) -> Header:
    """Wave64: chunks named by 16 bytes, sizes of 64 bits that count their own head, aligned to 8."""
    position, block_align, mask = 40, 0, None
    for _ in range(MAX_CHUNKS):
        file.seek(position)
        head = file.read(_W64_HEAD_BYTES)
        if len(head) < _W64_HEAD_BYTES:
            break
        size = struct.unpack("<Q", head[16:])[0]
        if head[:4] == b"fmt ":
            block_align, mask = _read_format(_body(file, position + _W64_HEAD_BYTES, 40))
        elif head[:4] == b"data":
            frames = (size - _W64_HEAD_BYTES) // block_align if block_align else None
            return Header("w64", mask, frames, None, position + _W64_HEAD_BYTES, block_align)
        if size < _W64_HEAD_BYTES or position + size > size_bytes:
            break
        position += size + -size % 8
    return Header("w64", mask)


def _read_caf(file: BinaryIO, size_bytes: int) -> Header:
    """CAF: a packet size in `desc` where packets are of one size, a length of -1 where a recorder did not say."""
    position, packet_bytes, mask = 8, 0, None
    for _ in range(MAX_CHUNKS):
        file.seek(position)
        head = file.read(12)
        if len(head) < 12:
            break
        name, size = struct.unpack(">4sq", head)
        if name == b"desc":
            packet_bytes = struct.unpack(">I", _body(file, position + 12, 32)[16:20])[0]
        elif name == b"chan":
            tag, bitmap = struct.unpack(">II", _body(file, position + 12, 8))
            mask = bitmap if tag == _CAF_USE_BITMAP else _CAF_MASKS.get(tag)
        elif name == b"data":
            if not packet_bytes or size < 4:
                return Header("caf", mask)
            present = max(0, size_bytes - (position + 16)) // packet_bytes
            return Header("caf", mask, (size - 4) // packet_bytes, present)
        if size < 0:
            break
        position += 12 + size
    return Header("caf", mask)


_CAF_USE_BITMAP = 1 << 16
# Layout tags whose channels come in the order of the mask.
_CAF_MASKS = {(100 << 16) | 1: 0x4, (101 << 16) | 2: 0x3, (121 << 16) | 6: 0x3F}


def _au_frames(head: bytes) -> int | None:
    """Frames that an AU header promises; all ones mean that it does not say."""
    if len(head) < 24:
        return None
    _, data_bytes, encoding, _, channels = struct.unpack(">IIIII", head[4:24])
    sample_bytes = {1: 1, 2: 1, 3: 2, 4: 3, 5: 4, 6: 4, 7: 8, 27: 1}.get(encoding)
    if data_bytes == UNKNOWN_SIZE_32 or not sample_bytes or not channels:
        return None
    return int(data_bytes // (sample_bytes * channels))


def chunks_of(file: BinaryIO, order: str, size_bytes: int) -> Iterator[tuple[bytes, int, int]]:
    """Name, size and start of body of each chunk, as far as the file goes; of samples the size in `ds64`."""
    position, data_bytes = 12, UNKNOWN_SIZE_32
    for _ in range(MAX_CHUNKS):
        if position + 8 > size_bytes:
            return
        file.seek(position)
        head = file.read(8)
        if len(head) < 8:
            return
        name, size = struct.unpack(f"{order}4sI", head)
        if name == b"ds64":
            data_bytes = struct.unpack("<Q", _body(file, position + 8, 16)[8:16])[0]
        if name == b"data" and size == UNKNOWN_SIZE_32:
            size = data_bytes
        yield name, size, position + 8
        position += 8 + size + (size & 1)


def _body(file: BinaryIO, start: int, size: int) -> bytes:
    file.seek(start)
    return file.read(size).ljust(size, b"\0")
