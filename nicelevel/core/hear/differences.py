"""What differs between two versions of a title, heard sample by sample: aligned, brought to one level, in bands.

The newer one is gone through in blocks. Each is looked for in the older one, so that what was put in or taken out is
known to some hundredths of a second; then both are held against each other frame by frame and band by band. Whatever
one gain does not explain is the difference. Thresholds are found by trying.
"""

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from itertools import pairwise
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from ..files import take_in
from ..files.read import Audio
from ..progress import Progress
from ..stages.resample import resampled_window
from ..units import db_from_energies, db_from_energy, ratio_from_db
from ..values import Place
from .programmes import Samples, for_two

METHOD = 1
"""Counts up with every change of what is found: what was kept by an earlier one is looked for again."""

EDGES_HZ = (0.0, 120.0, 300.0, 600.0, 1_200.0, 2_500.0, 5_000.0, 10_000.0, 1e9)
"""Borders of the bands."""

FRAME_S, FRAMES_A_BLOCK = 0.04, 25
"""About how long a frame is (a power of two in samples), and how many of them are looked for together."""

REACH_S = 30.0
"""So far before and behind its place a block is looked for in the older one."""

FOUND, SURELY_FOUND = 0.6, 0.85
"""Correlations: from the first on a block is the same, up to the second it is looked for elsewhere too."""

COARSE = 16
"""So many samples are one where a block is looked for roughly."""

FRUITLESS = 12
"""After so many searches without success only every eighth block is looked for."""

QUIET_DBFS = -70.0
"""Frames of less hold nothing that could be compared."""

NOISE_DBFS = -80.0
"""A difference under this is rounding and dither of 16 bits."""

DIFFERENT_DB, APART_DB = -40.0, 10.0
"""A frame differs where more is left than the first, and by the second more than is usually left."""

USUAL_SHARE = 0.2
"""What this share of the frames has, at most, is there at all times."""

BAND_DIFFERENT_DB = -20.0
"""The same for one band of a frame, against the band alone."""

SAME_GAIN_DB, SAME_GAIN_SHARE = 0.1, 0.15
"""The gain of what is the same is one that so many cells have, to within so much."""

JOINED_S, LEAST_SHARE = 0.25, 0.5
"""Places closer than this are one; of a file at least this share is to be found for anything to be said."""


@dataclass(frozen=True)
class Edit:
    """Where time was put in (by_s over 0) or taken out, in the newer one's time."""

    at_s: float
    by_s: float


@dataclass(frozen=True)
class Band:
    """level_db: how much louder it became beside the whole; difference_db: what differs, against what is there."""

    low_hz: float
    high_hz: float
    level_db: float
    difference_db: float


@dataclass(frozen=True)
class Differences:
    """is_same: whether the recording is the same at all; the rest says nothing where it is not.

    gain_db: of all that is the same; is_inverted: its polarity; difference_db: all that differs against the newer
    one; usual_db: the same of single frames, a fifth of which have no more: what differs at all times. places: in the
    newer one's time, where more differs than usual.
    """

    is_same: bool
    gain_db: float = 0.0
    is_inverted: bool = False
    difference_db: float = 0.0
    usual_db: float = 0.0
    bands: tuple[Band, ...] = ()
    places: tuple[Place, ...] = ()
    edits: tuple[Edit, ...] = ()


def differences_between(older: Path, newer: Path, progress: Progress | None = None) -> Differences:
    """Hold two files against each other. Raises the errors of files that cannot be used, UnsupportedError too."""
    with take_in(older) as one, take_in(newer) as other:
        pair = _Pair(one, other)
        lags, seconds = [], pair.blocks
        for number in range(seconds):
            lags.append(pair.lag_of(number))
            if progress:
                progress(0.5 * (number + 1) / seconds)
        found = [lag for lag in lags if lag is not None]
        heard = sum(pair.is_audible(number) for number in range(seconds))
        if not found or len(found) < LEAST_SHARE * heard:
            return Differences(is_same=False)
        cuts = _cuts(pair, lags)
        sums = _Sums.of(pair, cuts, lambda share: progress(0.5 + 0.5 * share) if progress else None)
        return sums.differences(tuple(Edit(cut.at / pair.rate_hz, cut.by / pair.rate_hz) for cut in cuts[1:]))


Window = Callable[[int, int], NDArray[np.float64]]


class _Pair:
    """Two files at the newer one's rate and on the same channels, in frames of the same length."""

    def __init__(self, older: Audio, newer: Audio) -> None:
        self._older, self._newer = older, newer
        self.rate_hz, self.frames = newer.source.sample_rate_hz, newer.source.frames
        self._alike = older.source.layout.positions == newer.source.layout.positions
        self.frame = 1 << round(np.log2(FRAME_S * self.rate_hz))
        self.block = FRAMES_A_BLOCK * self.frame
        self.blocks = -(-self.frames // self.block)
        rate_hz = older.source.sample_rate_hz
        self._older_frames = -(-older.source.frames * self.rate_hz // rate_hz)
        self._lag, self._fruitless = 0, 0
        self._audible: dict[int, bool] = {}

    def newer(self, first: int, last: int) -> Samples:
        return self._channels(self._newer, _inside(self._newer_window, self.frames, first, last))

    def older(self, first: int, last: int) -> Samples:
        """As it lies at the newer one's rate; nothing before its beginning and behind its end."""
        return self._channels(self._older, _inside(self._older_window, self._older_frames, first, last))

    def _newer_window(self, first: int, last: int) -> Samples:
        return self._newer.window(first, last).astype(np.float64)

    def _older_window(self, first: int, last: int) -> Samples:
        if self._older.source.sample_rate_hz == self.rate_hz:
            return self._older.window(first, last).astype(np.float64)
        return resampled_window(self._older, self.rate_hz, first, last)

    def _channels(self, audio: Audio, block: Samples) -> Samples:
        return block if self._alike else for_two(block, audio.source.layout)

    def is_audible(self, number: int) -> bool:
        return self._audible.get(number, False)

    def lag_of(self, number: int) -> int | None:
        """How much later a block of the newer one lies in it than in the older one; None where it is not found."""
        first = number * self.block
        x = self.newer(first, first + self.block)
        channel = int(np.argmax((x**2).sum(axis=0)))
        x = x[:, channel]
        if db_from_energy(float((x**2).mean())) < QUIET_DBFS:
            return None
        self._audible[number] = True
        here = self.older(first - self._lag, first - self._lag + self.block)[:, channel]
        best = abs(_correlation(x, here))
        if best < SURELY_FOUND and (self._fruitless < FRUITLESS or number % 8 == 0):
            lag, correlation = self._look_for(x, first, channel)
            if correlation > max(FOUND, best + 0.1):
                self._lag, self._fruitless = lag, 0
                return lag
            self._fruitless += best < FOUND
        return self._lag if best >= FOUND else None

    def _look_for(self, x: NDArray[np.float64], first: int, channel: int) -> tuple[int, float]:
        """The lag at which a block fits best, and how well: roughly over the whole reach, then to the sample."""
        reach = int(REACH_S * self.rate_hz) // COARSE * COARSE
        start = first - self._lag - reach
        around = self.older(start, start + 2 * reach + len(x))[:, channel]
        rough, piece = _thinned(around), _thinned(x)
        at = COARSE * int(np.argmax(_fits(rough, piece)))
        low = max(0, at - 2 * COARSE)
        near = around[low : at + 2 * COARSE + len(x)]
        fits = _fits(near, x)
        best = int(np.argmax(fits))
        return first - (start + low + best), float(fits[best])


def _inside(window: Window, frames: int, first: int, last: int) -> Samples:
    """A window that may lie outside: silent there."""
    begin, end = min(max(first, 0), frames), min(max(last, 0), frames)
    if begin >= end:
        return np.zeros((last - first, window(0, 1).shape[1]))
    block = window(begin, end).astype(np.float64)
    return np.pad(block, ((begin - first, last - begin - len(block)), (0, 0)))


def _thinned(x: NDArray[np.float64]) -> NDArray[np.float64]:
    means: NDArray[np.float64] = x[: len(x) // COARSE * COARSE].reshape(-1, COARSE).mean(axis=1)
    return means


def _correlation(x: NDArray[np.float64], y: NDArray[np.float64]) -> float:
    both = float((x**2).sum() * (y**2).sum())
    return float((x * y).sum()) / np.sqrt(both) if both > 0.0 else 0.0


def _fits(around: NDArray[np.float64], x: NDArray[np.float64]) -> NDArray[np.float64]:
    """The magnitude of the correlation of a piece with every piece of its length."""
    size = 1 << (len(around) + len(x)).bit_length()
    products = np.fft.irfft(np.fft.rfft(around, size) * np.fft.rfft(x, size).conj(), size)
    count = len(around) - len(x) + 1
    total = np.concatenate(([0.0], np.cumsum(around**2)))
    energies = total[len(x) :] - total[:count]
    floor = max(1e-12, 1e-6 * float((x**2).sum()))
    found: NDArray[np.float64] = np.abs(products[:count]) / np.sqrt(np.maximum(energies, floor) * (x**2).sum())
    return found


@dataclass(frozen=True)
class _Cut:
    """From a frame of samples on another lag holds; `by` samples more than before it (the first: none)."""

    at: int
    lag: int
    by: int


def _cuts(pair: _Pair, lags: list[int | None]) -> list[_Cut]:
    """Where the lag changes, each place found between the last block before and the first behind it."""
    known = [(number, lag) for number, lag in enumerate(lags) if lag is not None]
    cuts = [_Cut(0, known[0][1], 0)]
    for (before, lag), (behind, other) in pairwise(known):
        if lag != other:
            at = _place_of_cut(pair, before * pair.block, (behind + 1) * pair.block, lag, other)
            cuts.append(_Cut(at, other, other - lag))
    return cuts


def _place_of_cut(pair: _Pair, first: int, last: int, lag: int, other: int) -> int:
    """The sample from which on something was put in or taken out: up to it the old lag leaves least, then the new."""
    x = pair.newer(first, last)
    left = [((x - pair.older(first - each, last - each)) ** 2).sum(axis=1) for each in (lag, other)]
    upto = np.concatenate(([0.0], np.cumsum(left[0])))
    rest = np.append(np.cumsum(left[1][::-1])[::-1], 0.0)
    gap = max(0, other - lag)
    ends = np.minimum(np.arange(len(upto)) + gap, len(rest) - 1)
    return first + int(np.argmin(upto + rest[ends]))


@dataclass(frozen=True)
class _Sums:
    """Energies of each frame and band: of the older one, of the newer one, and of their product.

    counts: whether a frame is compared at all: not where time was put in, not where both are quiet.
    """

    rate_hz: int
    frame: int
    channels: int
    older: NDArray[np.float64]
    newer: NDArray[np.float64]
    product: NDArray[np.float64]
    counts: NDArray[np.bool_]

    @classmethod
    def of(cls, pair: _Pair, cuts: list[_Cut], progress: Progress) -> "_Sums":
        rows = []
        for number, (first, last, lag) in enumerate(_stretches(pair, cuts)):
            x, y = pair.newer(first, last), pair.older(first - lag, last - lag)
            rows.append(_banded(x, y, pair))
            progress(min(1.0, (number + 1) / pair.blocks))
        older, newer, product = (np.concatenate([row[at] for row in rows]) for at in range(3))
        channels = pair.newer(0, 1).shape[1]
        loud = np.maximum(older, newer).sum(axis=1)
        audible = db_from_energies(np.maximum(loud, 1e-30) / channels) > QUIET_DBFS
        counts = audible & ~_put_in(pair, cuts, len(loud))
        return cls(pair.rate_hz, pair.frame, channels, older, newer, product, counts)

    def differences(self, edits: tuple[Edit, ...]) -> Differences:
        older, newer, product = (array[self.counts] for array in (self.older, self.newer, self.product))
        if not len(older) or older.sum() <= 0.0:
            return Differences(is_same=False)
        gain = _common_gain(older, product, self.channels)
        if gain == 0.0:
            return Differences(is_same=False)
        left = np.maximum(0.0, newer - 2.0 * gain * product + gain**2 * older)
        left_db = self._left_db(left, newer, gain**2 * older)
        usual_db = float(np.quantile(left_db, USUAL_SHARE))
        return Differences(
            True,
            20.0 * float(np.log10(abs(gain))),
            gain < 0.0,
            _share_db(left.sum(), newer.sum()),
            usual_db,
            self._bands(older, newer, left, gain),
            self._places(left_db, usual_db, self._band_stands_out(left, newer, gain**2 * older)),
            edits,
        )

    def _left_db(
        self, left: NDArray[np.float64], newer: NDArray[np.float64], older: NDArray[np.float64]
    ) -> NDArray[np.float64]:
        """What is left of each frame against what is there about it, of whichever has more."""
        there = _smoothed(np.maximum(newer.sum(axis=1), older.sum(axis=1)))
        noise = self.channels * ratio_from_db(NOISE_DBFS) ** 2
        loud = left.sum(axis=1) > noise
        shares: NDArray[np.float64] = np.where(loud, left.sum(axis=1) / np.maximum(there, 1e-30), 1e-12)
        return db_from_energies(np.maximum(shares, 1e-12))

    def _band_stands_out(
        self, left: NDArray[np.float64], newer: NDArray[np.float64], older: NDArray[np.float64]
    ) -> NDArray[np.bool_]:
        """Of each frame, whether one band alone differs by much, and by more than it usually does."""
        noise = self.channels * ratio_from_db(NOISE_DBFS) ** 2
        there = np.stack([_smoothed(column) for column in np.maximum(newer, older).T], axis=1)
        share_db = db_from_energies(np.maximum(left, 1e-30) / np.maximum(there, 1e-30))
        usual_db = np.quantile(share_db, USUAL_SHARE, axis=0)
        stands_out = (left > noise) & (share_db > np.maximum(BAND_DIFFERENT_DB, usual_db + APART_DB))
        return np.asarray(stands_out.any(axis=1))

    def _bands(
        self, older: NDArray[np.float64], newer: NDArray[np.float64], left: NDArray[np.float64], gain: float
    ) -> tuple[Band, ...]:
        found = []
        for number, (low_hz, high_hz) in enumerate(pairwise(EDGES_HZ)):
            was, now = float(older[:, number].sum()) * gain**2, float(newer[:, number].sum())
            if min(was, now) > 1e-12 and low_hz < self.rate_hz / 2:
                high = min(high_hz, self.rate_hz / 2)
                level_db, left_db = _share_db(now, was), _share_db(float(left[:, number].sum()), now)
                found.append(Band(low_hz, high, level_db, left_db))
        return tuple(found)

    def _places(
        self, left_db: NDArray[np.float64], usual_db: float, stands_out: NDArray[np.bool_]
    ) -> tuple[Place, ...]:
        different = np.zeros(len(self.counts), np.bool_)
        different[self.counts] = stands_out | (left_db > max(DIFFERENT_DB, usual_db + APART_DB))
        at = np.flatnonzero(different)
        if len(at) == 0:
            return ()
        frame_s = self.frame / self.rate_hz
        breaks = np.flatnonzero(np.diff(at) > 1 + JOINED_S / frame_s)
        starts, ends = at[np.append(0, breaks + 1)], at[np.append(breaks, len(at) - 1)] + 1
        return tuple(zip((starts * frame_s).tolist(), (ends * frame_s).tolist(), strict=True))


def _common_gain(older: NDArray[np.float64], product: NDArray[np.float64], channels: int) -> float:
    """The gain of what is the same: that which most cells of frame and band have, to within 0.1 dB; where no gain has
    many, the middle one of all frames. Below 0 for the other polarity."""
    cells = older > channels * ratio_from_db(NOISE_DBFS) ** 2
    gains = product[cells] / older[cells]
    gains = gains[gains != 0.0]
    middle = float(np.median(product.sum(axis=1) / np.maximum(older.sum(axis=1), 1e-30)))
    alike = gains[np.sign(gains) == np.sign(middle)]
    if len(alike) == 0:
        return middle
    levels_db = 20.0 * np.log10(np.abs(alike))
    levels_db = np.sort(levels_db[np.abs(levels_db) < 60.0])
    if len(levels_db) == 0:
        return middle
    counts = np.searchsorted(levels_db, levels_db + SAME_GAIN_DB, "right") - np.arange(len(levels_db))
    best = int(np.argmax(counts))
    if counts[best] < SAME_GAIN_SHARE * len(gains):
        return middle
    common_db = float(np.median(levels_db[best : best + counts[best]]))
    return float(np.copysign(ratio_from_db(common_db), middle))


def _share_db(part: float, whole: float) -> float:
    return db_from_energy(max(part / whole, 1e-12)) if whole > 0.0 else 0.0


def _smoothed(energies: NDArray[np.float64]) -> NDArray[np.float64]:
    """Over about half a second around each frame."""
    half = 6
    padded = np.pad(energies, half, mode="edge") if len(energies) else energies
    means: NDArray[np.float64] = np.convolve(padded, np.full(2 * half + 1, 1.0 / (2 * half + 1)), "valid")
    return means


def _stretches(pair: _Pair, cuts: list[_Cut]) -> Iterator[tuple[int, int, int]]:
    """Stretches of whole frames, none longer than a block, each with its lag."""
    ends = [*(cut.at // pair.frame * pair.frame for cut in cuts[1:]), -(-pair.frames // pair.frame) * pair.frame]
    first = 0
    for cut, end in zip(cuts, ends, strict=True):
        while first < end:
            last = min(end, first + pair.block)
            yield first, last, cut.lag
            first = last


def _put_in(pair: _Pair, cuts: list[_Cut], frames: int) -> NDArray[np.bool_]:
    """The frames that hold what was put in, or a cut: they have nothing to be held against."""
    found = np.zeros(frames, np.bool_)
    for cut in cuts[1:]:
        found[cut.at // pair.frame : -(-(cut.at + max(cut.by, 1)) // pair.frame)] = True
    return found


def _banded(x: Samples, y: Samples, pair: _Pair) -> tuple[NDArray[np.float64], ...]:
    """Mean energies of frames × bands, of the older, the newer one and their product, over all channels together."""
    shape = (-1, pair.frame, x.shape[1])
    newer, older = (np.fft.rfft(each.reshape(shape), axis=1) for each in (x, y))
    edges_hz = np.array(EDGES_HZ[:-1])
    bins = np.ceil(edges_hz[edges_hz < pair.rate_hz / 2] * pair.frame / pair.rate_hz).astype(np.int64)
    weights = np.full(newer.shape[1], 2.0 / pair.frame**2)
    weights[0] = weights[-1] = 1.0 / pair.frame**2  # these two bins have no twin of negative frequency
    products = (older * older.conj()).real, (newer * newer.conj()).real, (newer * older.conj()).real
    banded = []
    for product in products:
        sums = np.add.reduceat(product.sum(axis=2) * weights, bins, axis=1)
        banded.append(np.pad(sums, ((0, 0), (0, len(EDGES_HZ) - 1 - sums.shape[1]))))
    return tuple(banded)
