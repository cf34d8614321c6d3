"""Files of one channel that are the channels of one signal: read side by side, none of them copied.

Which ones those are stands in a small file of its own, by their places relative to it; it is told by its name alone,
so that no file that comes from outside can name others.
"""

import json
from collections.abc import Callable, Sequence
from pathlib import Path

import numpy as np

from ..channels import layout_of_name
from ..errors import DamagedError, UnsupportedError
from ..values import Source
from .blocks import Block, Decoder
from .codes import WORDS_24, WORDS_32, CodeBuffer

SUFFIX = ".beside"

Open = Callable[[Path], Decoder]


def text_beside(layout: str, files: Sequence[str]) -> str:
    """What stands in such a file: the name of a layout, and a file for each of its channels in their order."""
    return json.dumps({"layout": layout, "files": list(files)})


def is_beside(path: Path) -> bool:
    """Whether a file names others that are read side by side."""
    return path.suffix == SUFFIX


def files_of(path: Path) -> tuple[Path, ...]:
    """The files that audio is read from: the one itself, or those that it names."""
    return _told(path)[1] if is_beside(path) else (path,)


def _told(path: Path) -> tuple[str, tuple[Path, ...]]:
    try:
        told = json.loads(path.read_text())
        return str(told["layout"]), tuple(path.parent / str(each) for each in told["files"])
    except (ValueError, KeyError, TypeError) as error:
        raise DamagedError("It does not say which files lie side by side in it.") from error


def open_beside(path: Path, open_file: Open) -> "BesideDecoder":
    """The files that a file names, as one. Raises as opening each, DamagedError, UnsupportedError."""
    layout, files = _told(path)
    return decoder_beside(path, layout, files, open_file)


def decoder_beside(path: Path, layout: str, files: Sequence[Path], open_file: Open) -> "BesideDecoder":
    """Files of one channel as the channels of a layout, in its order. path: what the whole is called.

    Raises as opening each, UnsupportedError where they are not alike.
    """
    opened: list[Decoder] = []
    try:
        for each in files:
            opened.append(open_file(each))
        return BesideDecoder(_described(path, layout, [each.source for each in opened]), opened)
    except BaseException:
        for one in opened:
            one.close()
        raise


def _described(path: Path, layout: str, sources: Sequence[Source]) -> Source:
    first = sources[0]
    if any(each.channels != 1 for each in sources):
        raise UnsupportedError("Only files of one channel are read side by side.")
    if len({alike(each) for each in sources}) > 1:
        raise UnsupportedError("Files that are read side by side have one rate, one length and one word length.")
    positions = layout_of_name(layout)
    if len(positions.positions) != len(sources):
        raise UnsupportedError(f"{layout} has {len(positions.positions)} channels, not {len(sources)}.")
    return Source(
        path=path,
        size_bytes=sum(each.size_bytes or 0 for each in sources),
        container=first.container,
        encoding=first.encoding,
        sample_rate_hz=first.sample_rate_hz,
        layout=positions,
        frames=first.frames,
        bits_declared=first.bits_declared,
        bitrate_kbps=None if first.bitrate_kbps is None else sum(each.bitrate_kbps or 0.0 for each in sources),
    )


def alike(source: Source) -> tuple[object, ...]:
    """What files must have in common that are read side by side."""
    return source.container, source.encoding, source.bits_declared, source.sample_rate_hz, source.frames


class BesideDecoder:
    """One file for each channel, read in step."""

    def __init__(self, source: Source, parts: Sequence[Decoder]) -> None:
        self.source = source
        self._parts = parts
        # Words of three bytes share a byte with their neighbour: they cannot be set one by one.
        codings = {WORDS_32 if each.coding == WORDS_24 else each.coding for each in parts}
        if len(codings) > 1:
            raise UnsupportedError("Files that are read side by side hold their samples alike.")
        (self.coding,) = codings
        self.opens_at_once = all(each.opens_at_once for each in parts)
        self.is_coded = any(each.is_coded for each in parts)

    @property
    def can_seek(self) -> bool:
        return all(each.can_seek for each in self._parts)

    def read(self, frames: int) -> Block:
        """At most so many frames × channels; none at the end."""
        buffers = [_read(each, frames) for each in self._parts]
        return np.stack([each[: min(map(len, buffers))] for each in buffers], axis=1)

    def read_into(self, buffer: CodeBuffer, first: int, last: int) -> int:
        """Fill frames of a buffer; how many were, 0 at the end."""
        counts = []
        for channel, part in enumerate(self._parts):
            single = CodeBuffer(part.coding, 1, last - first)
            count = _fill(part, single, last - first)
            buffer.codes[first : first + count, channel] = single.clean_codes(0, count)[:, 0]
            counts.append(count)
        return min(counts)

    def seek(self, frame: int) -> None:
        """Go on reading from a frame."""
        for each in self._parts:
            each.seek(frame)

    def close(self) -> None:
        for each in self._parts:
            each.close()


def _read(part: Decoder, frames: int) -> Block:
    """So many samples of one channel, fewer at the end alone: a decoder gives what it has."""
    blocks, have = [np.empty(0, np.float32)], 0
    while have < frames and len(block := part.read(frames - have)):
        blocks.append(block[:, 0])
        have += len(block)
    return np.concatenate(blocks[1:] or blocks)


def _fill(part: Decoder, single: CodeBuffer, frames: int) -> int:
    have = 0
    while have < frames and (count := part.read_into(single, have, frames)):
        have += count
    return have
