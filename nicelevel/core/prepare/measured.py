"""What is known of a prepared signal once it was measured, and measuring it."""

from collections.abc import Callable
from dataclasses import dataclass, replace
from functools import cached_property
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from ..ahead import ahead
from ..files import take_in
from ..files.codes import DOUBLE, Coding, coding_of
from ..measure import BLOCK_FRAMES, Meter, hop_files, measure
from ..measure.gating import SortedBlocks, gating_blocks, short_term_steps
from ..measure.hop_files import Hops, open_hops
from ..progress import Progress
from ..signals import Kept, PastRangeError, Signal
from ..signals.kept import bytes_of, coded_blocks, coding_to_keep, empty_codes
from ..speech import spoken_blocks, spoken_lufs
from ..steps import Chain, Recipe
from ..steps.chain import described
from ..steps.speech import SpeechFound
from ..units import db_from_energies
from ..values import Place, Reading, Source

STRETCH_S = 4
"""Shorter stretches than elsewhere: what is measured last waits until all is made."""

LEVEL_STEP_DB = 4.0


@dataclass(frozen=True)
class Measured:
    """What plans are made from: the reading of a prepared signal with its curves, and its hops where a limiter may be
    asked for.

    kept: the signal itself, where there was room for it; measure_hops: gives the hops where they are not at hand.
    """

    reading: Reading
    chain: Chain
    hops_at_hand: Hops | None = None
    kept: Kept | None = None
    measure_hops: Callable[[], Hops] | None = None

    @property
    def hops(self) -> Hops | None:
        """What a limiter works on; None where none may be asked for."""
        return self.measure_hops() if self.measure_hops else self.hops_at_hand

    @cached_property
    def blocks(self) -> SortedBlocks:
        """The 400 ms blocks of the two gates."""
        return SortedBlocks(gating_blocks(self.reading.curves.energies))

    @property
    def speech(self) -> tuple[Place, ...] | None:
        """Where somebody speaks, in seconds; None where nobody listened for that."""
        return speech_in(self.chain)

    @cached_property
    def spoken_blocks(self) -> SortedBlocks:
        """The 400 ms blocks of what is spoken; none where nobody listened."""
        return SortedBlocks(spoken_blocks(gating_blocks(self.reading.curves.energies), self.speech or ()))

    @cached_property
    def short_term_sorted(self) -> NDArray[np.float64]:
        """Energies of the 3 s windows every 100 ms, in ascending order: a gain does not change that."""
        return np.sort(short_term_steps(self.reading.curves.energies))

    @cached_property
    def hops_by_level(self) -> tuple[dict[float, int], float]:
        """How many times 20 ms lie at about each level in dBFS, LEVEL_STEP_DB apart; the share of digital silence."""
        squares = self.reading.curves.squares
        pairs = np.add.reduceat(squares, np.arange(0, len(squares), 2)) / 2.0 if len(squares) else squares
        levels_db = db_from_energies(pairs[pairs > 0.0])
        _, step, counts = np.unique(np.round(levels_db / LEVEL_STEP_DB), return_inverse=True, return_counts=True)
        means_db = np.bincount(step, levels_db) / counts
        return dict(zip(means_db.tolist(), counts.tolist(), strict=True)), 1.0 - len(levels_db) / max(1, len(pairs))


def speech_in(chain: Chain) -> tuple[Place, ...] | None:
    """Where somebody speaks in what a chain makes, where it listens for that."""
    heard = [each.found.places for each in chain.done if isinstance(each.found, SpeechFound)]
    return heard[-1] if heard else None


def with_speech(reading: Reading, chain: Chain) -> Reading:
    """A reading with the loudness of what is spoken, where a chain listens for that."""
    places = speech_in(chain)
    if places is None:
        return reading
    return replace(reading, dialogue_lufs=spoken_lufs(gating_blocks(reading.curves.energies), places))


MeasuredOf = Callable[[Recipe], Measured]
"""Gives what a recipe makes of a source, measured. Raises UnsupportedError or EmptyError where that cannot be done,
NotPreparedError where it is still to be.
"""


def prepare(
    path: Path,
    chain: Chain | None = None,
    hops_folder: Path | None = None,
    progress: Progress | None = None,
    most_kept_bytes: int = 0,
) -> Measured:
    """Measure what a chain makes of a file, and keep it where it takes no more than so many bytes.

    chain: None for the file as it is. Raises the NiceLevelError named for the cause where the file cannot be used.
    """
    kept = None
    if chain is None or chain.is_nothing:
        reading = measure(path, progress, hops_folder)
    else:
        try:
            reading, kept = _measure(path, chain, True, hops_folder, progress, most_kept_bytes)
        except PastRangeError:
            reading, kept = _measure(path, chain, False, hops_folder, progress, most_kept_bytes)
    hops = open_hops(hops_folder) if hops_folder else None
    chain = chain or Chain(reading.source.shape)
    return Measured(with_speech(reading, chain), chain, hops, kept)


def _measure(
    path: Path,
    chain: Chain,
    on_grid: bool,
    hops_folder: Path | None,
    progress: Progress | None,
    most_kept_bytes: int,
) -> tuple[Reading, Kept | None]:
    """on_grid: measured as the codes that it is kept as; raises PastRangeError where they do not reach."""
    with take_in(path) as audio:
        signal = chain.on(audio)
        coding = coding_to_keep(signal) if on_grid else DOUBLE
        keeps = bytes_of(signal.shape, coding) <= most_kept_bytes
        kept = Kept(signal.shape, empty_codes(signal.shape, coding)) if keeps else None
        reading = _metered(described(audio.source, chain), signal, coding, kept, hops_folder, progress)
        return reading, kept


def _metered(
    source: Source,
    signal: Signal,
    coding: Coding,
    kept: Kept | None = None,
    hops_folder: Path | None = None,
    progress: Progress | None = None,
) -> Reading:
    """The reading of a signal, put into its room on the way where there is one."""
    done, made = 0, coded_blocks(signal, coding, BLOCK_FRAMES, kept.codes if kept else None)
    with hop_files(source, hops_folder) as hops, ahead(made) as coming:
        meter = Meter(source, coding, hops, STRETCH_S)
        for block in coming:
            meter.feed(block)
            done += len(block)
            if progress:
                progress(done / source.frames)
        return meter.reading()


def hops_of_kept(measured: Measured, folder: Path) -> Hops:
    """The same hops as if they had been kept while the signal was measured, put into a folder."""
    assert measured.kept
    _metered(measured.reading.source, measured.kept, measured.kept.coding, hops_folder=folder)
    return open_hops(folder)


def bytes_to_keep(chain: Chain, source: Source) -> int:
    """What a chain makes of a source takes in memory; twice that where its samples pass the range of the grid."""
    return bytes_of(chain.shape, chain.coding_after(coding_of(source)))
