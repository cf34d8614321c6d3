"""One pass from the source to a staged file: channels, resampling, level, limiting, dither and rounding, encoding.

Bounded memory, no interim file, sums in 64 bit.
"""

from collections.abc import Iterator
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from ..ahead import ahead
from ..digest import seed_of
from ..files import StagedFile, open_sink, take_in
from ..files.blocks import Block
from ..files.read import Audio
from ..files.staged import speaking_errors
from ..plan.limiter import Limited
from ..progress import Progress
from ..signals import Signal
from ..units import ratio_from_db
from ..values import Plan
from .dither import Rounder
from .limiting import limit_block

BLOCK_FRAMES = 1 << 16


def render(
    path: Path,
    plan: Plan,
    limited: Limited | None,
    target: Path,
    progress: Progress | None = None,
    kept: Signal | None = None,
) -> StagedFile:
    """Write what a plan says into a staged file beside `target`; the caller proves and publishes it.

    limited: what the plan's limiter makes of the signal; kept: the prepared signal, where it need not be made again.
    The source's contents seed the dither, so that the same input gives the same bytes. Leaves nothing behind where it
    fails or is stopped.
    """
    staged = StagedFile(target)
    try:
        with speaking_errors(target):
            _write(path, plan, limited, staged, kept, progress)
    except BaseException:
        staged.discard()
        raise
    return staged


def _write(
    path: Path,
    plan: Plan,
    limited: Limited | None,
    staged: StagedFile,
    kept: Signal | None,
    progress: Progress | None,
) -> None:
    seed = seed_of(path)
    with take_in(path) as audio:
        signal = plan.chain.on(audio)
        frames, prepared = signal.shape.frames, signal.blocks(BLOCK_FRAMES)
        if kept is not None:
            prepared = _kept_first(kept, prepared, frames)
        sink = open_sink(staged.path, plan.output, frames, seed)
        rounder = Rounder(plan.output, plan.dithers, seed) if plan.output.bits else None
        try:
            done = 0
            # All but the last step is done ahead: rounding, or an encoder, takes all the time that is left.
            levelled = _levelled(prepared, plan, limited)
            with ahead((len(block), block if rounder else sink.ready(block)) for block in levelled) as made:
                for count, ready in made:
                    if rounder:
                        sink.write(rounder.round(ready))
                    else:
                        sink.put(ready)
                    done += count
                    if progress:
                        progress(done / frames)
        finally:
            sink.close()


def _kept_first(kept: Signal, made_again: Iterator[Block], frames: int) -> Iterator[Block]:
    """What was kept of a prepared signal; from where it ends, what is made again."""
    done = 0
    for block in kept.blocks(BLOCK_FRAMES):
        yield block
        done += len(block)
    if done == frames:
        return
    passed = 0
    for block in made_again:
        passed += len(block)
        if passed > done:
            yield block[-(passed - done) :]


def _levelled(blocks: Iterator[Block], plan: Plan, limited: Limited | None) -> Iterator[NDArray[np.float64]]:
    done = 0
    for block in blocks:
        levelled = gained(block, plan.gain_db)
        if limited:
            limit_block(levelled, done, plan.output.sample_rate_hz, limited.left.curve)
        done += len(block)
        yield levelled


def rendered_piece(audio: Audio, plan: Plan, limited: Limited | None, first: int, last: int) -> NDArray[np.float64]:
    """What `render` makes of some frames, before the last rounding. Raises as `Signal.window`."""
    piece = gained(plan.chain.on(audio).window(first, last), plan.gain_db)
    if limited:
        limit_block(piece, first, plan.output.sample_rate_hz, limited.left.curve)
    return piece


def gained(block: Block, gain_db: float) -> NDArray[np.float64]:
    """A block in 64 bit after a plain gain; without gain every sample stays what it was."""
    if gain_db == 0.0:
        return block.astype(np.float64, order="C")
    levelled: NDArray[np.float64] = np.multiply(block, ratio_from_db(gain_db), order="C", dtype=np.float64)
    return levelled
