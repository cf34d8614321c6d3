"""The sum of several sources as a file: what a set without a mix of its own is levelled by."""

from collections.abc import Sequence
from pathlib import Path

import numpy as np

from ..files import open_sink
from ..files.together import read_together
from ..values import OutputFormat

BLOCK_S = 4.0


def write_sum(paths: Sequence[Path], target: Path, titles: Sequence[str] | None = None) -> None:
    """Write the sum of files of one rate, length and channels as 32-bit float WAVE, which may pass full scale.

    titles: what the files are called in an error. Raises UnsupportedError, naming the file, where one of these
    differs.
    """
    with read_together(paths, BLOCK_S, titles) as (source, blocks):
        output = OutputFormat("wav", "float_32", source.sample_rate_hz, source.layout, "none")
        sink = open_sink(target, output, source.frames)
        try:
            for block in blocks:
                sink.write(block.sum(axis=0).astype(np.float32))
        finally:
            sink.close()
