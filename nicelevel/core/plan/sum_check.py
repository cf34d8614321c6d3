"""Whether stems add up to their mix, and which stem it is where they do not.

Samples are compared in blocks: nothing is kept but sums. If the mix is the sum of its stems, the residual is silence.
If not, what is left over is held against every stem: a residual that is the stem itself says that the mix has it once
too often or lacks it; twice the stem says that it is inverted; a small part of it that it is louder or quieter; and a
residual that turns to silence when the stem is moved says by how much it is late.
"""

import math
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from ..files.together import read_together
from ..progress import Progress
from ..units import db_from_energy, db_from_ratio

BLOCK_S, STEP_S = 4.0, 0.1
SAME_DB = -60.0
"""A residual so far under the mix is none: rounding and dither of 16 bits stay under it."""

EXPLAINED_RATIO = 0.02
"""A cause is named where it leaves less than this share of the residual's energy."""

SHARE_TOLERANCE = 0.03
FARTHEST_S = 0.1

Cause = Literal["missing", "doubled", "inverted", "shifted", "level", "unknown"]

_SHARES: dict[Cause, float] = {"missing": -1.0, "doubled": 1.0, "inverted": -2.0}
"""Which share of a stem the residual is, by cause."""


@dataclass(frozen=True)
class SumCheck:
    """What was found. residual_db: residual less mix, over the whole length; series_db: the same every STEP_S.

    stem: the index of the stem that is named, None where none is or where all is well; amount: dB for `level` (how
    much louder the mix has it), seconds for `shifted` (how much later the mix has it).
    """

    residual_db: float
    series_db: tuple[float, ...]
    cause: Cause | None
    stem: int | None
    amount: float | None = None

    @property
    def adds_up(self) -> bool:
        return self.cause is None


def check_sum(
    mix: Path, stems: Sequence[Path], progress: Progress | None = None, titles: Sequence[str] | None = None
) -> SumCheck:
    """Hold the sum of stems against a mix of the same rate, channels and length; titles: of the mix and each stem.

    Raises UnsupportedError, naming the file, where one of these differs; the errors of files that cannot be used.
    """
    with read_together((mix, *stems), BLOCK_S, titles) as (source, blocks):
        return check_blocks(source.sample_rate_hz, len(stems), _told(blocks, source.frames, progress))


def _told(
    blocks: Iterator[NDArray[np.float64]], frames: int, progress: Progress | None
) -> Iterator[NDArray[np.float64]]:
    done = 0
    for block in blocks:
        yield block
        done += block.shape[1]
        if progress:
            progress(done / frames)


def check_blocks(rate_hz: int, stems: int, blocks: Iterable[NDArray[np.float64]]) -> SumCheck:
    """The same of signals that lie side by side. blocks: (mix and each stem) × frames × channels, of any length."""
    sums = _Sums(stems, rate_hz)
    for block in blocks:
        sums.add(block)
    return sums.verdict()


class _Sums:
    """Energies and products of mix, residual and stems, gathered block by block."""

    def __init__(self, stems: int, rate_hz: int) -> None:
        self._rate_hz = rate_hz
        self._reach = max(1, int(FARTHEST_S * rate_hz))
        self._mix, self._residual = 0.0, 0.0
        self._stems, self._products = np.zeros(stems), np.zeros(stems)
        self._series: list[float] = []
        # Correlations of the mix less the other stems with each stem, at every lag that is looked at.
        self._lags = np.zeros((stems, 2 * self._reach + 1))

    def add(self, block: NDArray[np.float64]) -> None:
        mix, stems = block[0], block[1:]
        residual = mix - stems.sum(axis=0)
        self._mix += float((mix**2).sum())
        self._residual += float((residual**2).sum())
        self._stems += (stems**2).sum(axis=(1, 2))
        self._products += np.einsum("nfc,fc->n", stems, residual)
        for number, stem in enumerate(stems):
            self._lags[number] += _correlation(residual + stem, stem, self._reach)
        step = max(1, int(STEP_S * self._rate_hz))
        for start in range(0, len(mix), step):
            part = slice(start, start + step)
            loud, left = float((mix[part] ** 2).sum()), float((residual[part] ** 2).sum())
            self._series.append(db_from_energy(left / loud) if loud > 0.0 else -math.inf)

    def verdict(self) -> SumCheck:
        residual_db = db_from_energy(self._residual / self._mix) if self._mix > 0.0 else -math.inf
        series = tuple(self._series)
        if residual_db <= SAME_DB:
            return SumCheck(residual_db, series, None, None)
        for number in np.argsort(-(self._products**2) / np.maximum(self._stems, 1e-30)):
            cause = self._by_level(int(number))
            if cause:
                return SumCheck(residual_db, series, cause[0], int(number), cause[1])
        shift = self._by_shift()
        if shift:
            return SumCheck(residual_db, series, "shifted", *shift)
        return SumCheck(residual_db, series, "unknown", None)

    def _by_level(self, stem: int) -> tuple[Cause, float | None] | None:
        """The cause where the residual is a multiple of a stem: what is left without it is nearly nothing."""
        energy, product = self._stems[stem], self._products[stem]
        if energy <= 0.0:
            return None
        share = product / energy
        left = self._residual - product**2 / energy
        if left > EXPLAINED_RATIO * self._residual:
            return None
        for cause, expected in _SHARES.items():
            if abs(share - expected) < SHARE_TOLERANCE:
                return cause, None
        return ("level", db_from_ratio(1.0 + share)) if share > -1.0 else None

    def _by_shift(self) -> tuple[int, float] | None:
        """The stem, and how much later the mix has it, where it matches what the mix has of it at another place."""
        best: tuple[float, int, float] | None = None
        for stem, correlation in enumerate(self._lags):
            if self._stems[stem] <= 0.0:
                continue
            at = int(np.argmax(correlation))
            # The energy of what the mix has of this stem is that of residual and stem together.
            inside = self._residual + 2.0 * self._products[stem] + self._stems[stem]
            left = inside - 2.0 * correlation[at] + self._stems[stem]
            if at != self._reach and left < 0.25 * self._residual and (best is None or left < best[0]):
                best = left, stem, (at - self._reach) / self._rate_hz
        return best[1:] if best else None


def _correlation(signal: NDArray[np.float64], stem: NDArray[np.float64], reach: int) -> NDArray[np.float64]:
    """Sum over frames and channels of signal(t + lag) · stem(t), for lags from -reach to reach."""
    length = 1 << (len(signal) + reach).bit_length()
    spectrum = (np.fft.rfft(signal, length, axis=0) * np.fft.rfft(stem, length, axis=0).conj()).sum(axis=1)
    found = np.fft.irfft(spectrum, length)
    return np.concatenate((found[-reach:], found[: reach + 1]))
