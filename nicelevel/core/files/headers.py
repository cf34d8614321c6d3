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
    `data_offset`: where uncompressed samples begin; `samples`: how they lie there, in WAVE and its kin and in CAF.
    """

    container: str
    channel_mask: int | None = None
    promised_frames: int | None = None
    present_frames: int | None = None
    data_offset: int | None = None
    samples: "Samples | None" = None


@dataclass(frozen=True)
class Samples:
    """How a header says that samples lie in a file. kind: what it calls them, for people.

    encoding: as in `Source`, None where they are of another kind than plain words; block_align: bytes of a frame.
    """

    encoding: str | None
    channels: int
    sample_rate_hz: int
    block_align: int
    kind: str
    is_big_endian: bool = False
    is_known: bool = True

    @property
    def block_is_a_frame(self) -> bool:
        return self.encoding is not None or self.kind in ("A-law", "µ-law", "alaw", "ulaw")


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
    container, mask, samples = WAVE_MAGICS[magic], None, None
    for name, promised, start in chunks_of(file, "<", size_bytes):
        if name == b"fmt ":
            samples, mask = _read_format(_body(file, start, min(promised, 40)))
        elif name == b"data":
            # A recorder that streams or was cut off leaves 0 or all ones: then the file's end decides.
            open_ended = promised in (0, UNKNOWN_SIZE_32) and start < size_bytes
            return _header(container, mask, None if open_ended else promised, start, size_bytes, samples)
    return Header(container, mask, samples=samples)


def _header(
    container: str, mask: int | None, promised_bytes: int | None, start: int, size_bytes: int, samples: Samples | None
) -> Header:
    """With frames as far as bytes of samples say; None: up to the end of the file."""
    align = samples.block_align if samples and samples.block_is_a_frame else 0
    present = max(0, size_bytes - start) // align if align else None
    promised = promised_bytes // align if align and promised_bytes is not None else None
    return Header(container, mask, promised, present, start, samples)


_PCM, _FLOAT, _ALAW, _ULAW, _EXTENSIBLE = 0x0001, 0x0003, 0x0006, 0x0007, 0xFFFE
_GUID_TAILS = (
    bytes.fromhex("000000001000800000aa00389b71"),  # of the tags themselves
    bytes.fromhex("00002107d3118644c8c1ca000000"),  # of B-format, which is PCM or floating point as well
)
_KNOWN_TAGS = {_ALAW: "A-law", _ULAW: "µ-law", 0x0002: "ADPCM", 0x0011: "IMA ADPCM", 0x0031: "GSM", 0x0055: "MP3"}


def _read_format(body: bytes) -> tuple[Samples | None, int | None]:
    """What `fmt ` says of the samples, and the mask of channels where it has one."""
    if len(body) < 16:
        return None, None
    tag, channels, rate_hz, _, block_align, bits = struct.unpack_from("<HHIIHH", body)
    mask = None
    kind = f"tag 0x{tag:04X}"
    if tag == _EXTENSIBLE and len(body) >= 40:
        mask, guid = struct.unpack_from("<I", body, 20)[0], body[24:40]
        tag = struct.unpack_from("<H", guid)[0] if guid[2:] in _GUID_TAILS else 0
        kind = f"tag 0x{tag:04X}" if tag else f"type {guid.hex()}"
    encoding = _plain_encoding(tag, channels, block_align, bits)
    if tag in (_PCM, _FLOAT):
        kind = f"{bits} bits {'of floating point ' if tag == _FLOAT else ''}in frames of {block_align} bytes"
    kind = f"{_KNOWN_TAGS[tag]}" if tag in _KNOWN_TAGS else kind
    return Samples(encoding, channels, rate_hz, block_align, kind, is_known=tag in _KNOWN_TAGS), mask


def _plain_encoding(tag: int, channels: int, block_align: int, bits: int) -> str | None:
    """PCM and floating point by the bytes that a sample takes; None where these cannot be."""
    if not channels or not bits or block_align % channels:
        return None
    item_bytes = block_align // channels
    if tag == _FLOAT:
        return f"float_{bits}" if bits in (32, 64) and item_bytes * 8 == bits else None
    if tag != _PCM or not bits <= 8 * item_bytes <= 32:
        return None
    return "pcm_u8" if item_bytes == 1 else f"pcm_{8 * item_bytes}"


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
    position, samples, mask = 40, None, None
    for _ in range(MAX_CHUNKS):
        file.seek(position)
        head = file.read(_W64_HEAD_BYTES)
        if len(head) < _W64_HEAD_BYTES:
            break
        size = struct.unpack("<Q", head[16:])[0]
        if head[:4] == b"fmt ":
            samples, mask = _read_format(_body(file, position + _W64_HEAD_BYTES, 40))
        elif head[:4] == b"data":
            start = position + _W64_HEAD_BYTES
            return _header("w64", mask, max(0, size - _W64_HEAD_BYTES), start, size_bytes, samples)
        if size < _W64_HEAD_BYTES or position + size > size_bytes:
            break
        position += size + -size % 8
    return Header("w64", mask, samples=samples)


def _read_caf(file: BinaryIO, size_bytes: int) -> Header:
    """CAF: a packet size in `desc` where packets are of one size, a length of -1 where a recorder did not say."""
    position, samples, mask, found = 8, None, None, None
    for _ in range(MAX_CHUNKS):
        file.seek(position)
        head = file.read(12)
        if len(head) < 12:
            break
        name, size = struct.unpack(">4sq", head)
        if name == b"desc":
            samples = _read_caf_description(_body(file, position + 12, 32))
        elif name == b"chan":
            tag, bitmap = struct.unpack(">II", _body(file, position + 12, 8))
            mask = bitmap if tag == _CAF_USE_BITMAP else _CAF_MASKS.get(tag)
        elif name == b"data":
            # Of a recording that was not closed: -1, then the samples go on to the end of the file.
            promised = None if size < 0 else max(0, size - _CAF_EDITS_BYTES)
            found = promised, position + 12 + _CAF_EDITS_BYTES
        if size < 0:
            break
        position += 12 + size
    if found is None:
        return Header("caf", mask, samples=samples)
    return _header("caf", mask, *found, size_bytes, samples)


_CAF_EDITS_BYTES = 4
"""Before the samples: how often they were changed."""


def _read_caf_description(body: bytes) -> Samples:
    """`desc`: the rate as a double, codec, flags (1: floating point, 2: little-endian), bytes and frames of a packet,
    channels, bits."""
    rate_hz, codec, flags, packet_bytes, packet_frames, channels, bits = struct.unpack(">d4s5I", body)
    is_plain = codec == b"lpcm" and packet_frames == 1
    tag = _FLOAT if flags & 1 else _PCM
    encoding = _plain_encoding(tag, channels, packet_bytes, bits) if is_plain else None
    # Bytes have no sign in WAVE and one in CAF.
    encoding = "pcm_8" if encoding == "pcm_u8" else encoding
    kind = codec.decode("latin-1").strip()
    whole_hz = int(rate_hz) if 0 < rate_hz < 1e9 else 0
    known = codec != b"lpcm"
    return Samples(encoding, channels, whole_hz, packet_bytes, kind, not flags & 2, is_known=known)


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
    position, long_bytes = 12, dict[bytes, int]()
    for _ in range(MAX_CHUNKS):
        if position + 8 > size_bytes:
            return
        file.seek(position)
        head = file.read(8)
        if len(head) < 8:
            return
        name, size = struct.unpack(f"{order}4sI", head)
        if name == b"ds64":
            long_bytes = _read_ds64(_body(file, position + 8, min(size, _LONGEST_DS64_BYTES)))
        if size == UNKNOWN_SIZE_32:
            size = long_bytes.get(name, size)
        yield name, size, position + 8
        position += 8 + size + (size & 1)


_LONGEST_DS64_BYTES = 28 + 12 * 1000


def _read_ds64(body: bytes) -> dict[bytes, int]:
    """Sizes of 64 bits by the names of their chunks: of the samples, and of others in a table."""
    if len(body) < 28:
        return {}
    sizes = {b"data": struct.unpack_from("<Q", body, 8)[0]}
    count = min(struct.unpack_from("<I", body, 24)[0], (len(body) - 28) // 12)
    sizes |= dict(struct.unpack_from("<4sQ", body, 28 + 12 * number) for number in range(count))
    return sizes


def _body(file: BinaryIO, start: int, size: int) -> bytes:
    file.seek(start)
    return file.read(size).ljust(size, b"\0")
