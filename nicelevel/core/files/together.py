"""Several files read side by side: a mix and its stems."""

from collections.abc import Iterator, Sequence
from contextlib import ExitStack, contextmanager
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from ..errors import UnsupportedError
from ..values import Source
from .blocks import Block
from .read import take_in


@contextmanager
def read_together(
    paths: Sequence[Path], block_s: float, titles: Sequence[str] | None = None
) -> Iterator[tuple[Source, Iterator[NDArray[np.float64]]]]:
    """The first file described, and blocks of files × frames × channels of all of them.

    titles: what the files are called in an error; None: by their file names. Raises UnsupportedError, naming the
    file, where rate, channels or length differ from the first one's, and the errors of files that cannot be used.
    """
    with ExitStack() as stack:
        opened = [stack.enter_context(take_in(path)) for path in paths]
        first = opened[0].source
        called = titles or [path.name for path in paths]
        for audio, title in zip(opened[1:], called[1:], strict=True):
            _refuse_unlike(first, called[0], audio.source, title)
        frames = int(block_s * first.sample_rate_hz)
        readers = [_even(audio.blocks(frames), frames) for audio in opened]
        yield first, (np.stack(parts) for parts in zip(*readers, strict=True))


def _refuse_unlike(first: Source, first_title: str, other: Source, title: str) -> None:
    for mine, its, unit in (
        (first.sample_rate_hz, other.sample_rate_hz, "Hz"),
        (first.channels, other.channels, "channels"),
        (first.frames, other.frames, "frames"),
    ):
        if mine != its:
            raise UnsupportedError(f"{title} has {its} {unit}, {first_title} {mine}: they cannot be added up.")


def _even(blocks: Iterator[Block], frames: int) -> Iterator[NDArray[np.float64]]:
    """The same samples in blocks of just so many frames, the last one shorter: decoders give what they have."""
    waiting: list[Block] = []
    have = 0
    for block in blocks:
        waiting.append(block)
        have += len(block)
        while have >= frames:
            joined = np.concatenate(waiting).astype(np.float64)
            yield joined[:frames]
            waiting, have = [joined[frames:]], have - frames
    if have:
        yield np.concatenate(waiting).astype(np.float64)
