"""One pass from the source to a staged file: level, then dither and rounding last, then encoding.

Bounded memory, no interim file, sums in 64 bit.
"""

from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from ..files import StagedFile, open_sink, take_in
from ..files.blocks import Block
from ..files.write import Samples, speaking_errors
from ..measure import Progress
from ..units import ratio_from_db
from ..values import Plan
from .dither import rounded, seed_from_digest

BLOCK_FRAMES = 1 << 16


def render(path: Path, plan: Plan, target: Path, source_sha256: str, progress: Progress | None = None) -> StagedFile:
    """Write what a plan says into a staged file beside `target`; the caller proves and publishes it.

    `source_sha256` seeds the dither. Leaves nothing behind where it fails or is stopped.
    """
    staged = StagedFile(target)
    try:
        with speaking_errors(target):
            _write(path, plan, staged, seed_from_digest(source_sha256), progress)
    except BaseException:
        staged.discard()
        raise
    return staged


def _write(path: Path, plan: Plan, staged: StagedFile, seed: int, progress: Progress | None) -> None:
    with take_in(path) as audio:
        frames = audio.source.frames
        sink = open_sink(staged.path, plan.output, frames)
        try:
            done = 0
            for block in audio.blocks(BLOCK_FRAMES):
                sink.write(finished(block, plan, seed, done))
                done += len(block)
                if progress:
                    progress(done / frames)
        finally:
            sink.close()


def finished(block: Block, plan: Plan, seed: int, first_frame: int) -> Samples:
    """A block as it is encoded: gained, and rounded where the output is fixed point."""
    levelled = gained(block, plan.gain_db)
    if plan.output.bits is None:
        return levelled
    return rounded(levelled, plan.output.bits, plan.dithers, seed, first_frame)


def gained(block: Block, gain_db: float) -> NDArray[np.float64]:
    """A block in 64 bit after a plain gain; without gain every sample stays what it was."""
    levelled: NDArray[np.float64] = block.astype(np.float64)
    return levelled if gain_db == 0.0 else levelled * ratio_from_db(gain_db)
