"""About how large a file that packs without loss will be.

Told from the pieces that were kept of the prepared signal: gain, rounding and dither are put into their
autocorrelation, the predictor that the encoder finds is solved for that, and what it leaves is coded at about the
entropy of as much noise (Rice codes lie a little above it). What is played or spoken comes within a tenth (ALAC of
16 bits within an eighth); of a generator's tones alone, which a predictor foresees almost wholly, it may be off by a
third, seldom by two thirds.
"""

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ..channels import LFE_POSITIONS
from ..measure.prediction import LAGS, MOST_FRAMES
from ..prepare import Measured
from ..units import db_from_energies, energies_from_db
from ..values import OutputFormat, Reading
from .formats import dithers, word_length_falls

TPDF_POWER, ROUNDING_POWER = 0.25, 1.0 / 12.0
"""In squares of the last bit: triangular dither with the rounding after it, and rounding alone.

Shaped dither costs as much as white: the mean of its log spectrum is the same (Gerzon and Craven, AES 87, 1989)."""

_MOST_PIECES = 24
_LIKE_DB = 4.0
"""A piece speaks for hops of about its own level."""


@dataclass(frozen=True)
class _Packer:
    """An encoder's habits: longest predictor, bits of its coefficients, what its codes take past the entropy, and
    bytes of a file and of a block beside them.

    From the sources of libFLAC (compression level 5) and of FFmpeg's ALAC encoder, from memory; what codes take past
    the entropy was found by trying on noise and speech.
    """

    order: int
    coefficient_bits: int
    fewest_bits: float
    more_bits: float
    file_bytes: int
    block_bytes: int
    is_flac: bool
    bits_per_order: int = 0


_FLAC_16, _FLAC_24 = (
    _Packer(8, 12, 1.3, 0.06, 90, 14, True, 12 + 16),
    _Packer(8, 15, 1.3, 0.06, 90, 14, True, 15 + 24),
)
_ALAC = _Packer(6, 9, 0.5, 0.33, 700, 4 + 32, False)
_ALAC_MOST_BITS = 16
"""Of longer words the last bits are written as they are."""

_LEAST_REFLECTION = 0.1
_FOLLOWED, _DIFFERENCES_FOLLOWED = 0.003, 3.0
"""ALAC's coefficients follow the signal by a step at every sample, and so are never quite right: by how much."""


@dataclass(frozen=True)
class _Words:
    """Samples as they are packed: their length, what their rounding adds, and whether dither or rounding moves them
    also where nothing sounds."""

    bits: int
    rounding_power: float
    move: bool


def packed_bytes(measured: Measured, predicted: Reading, output: OutputFormat, gain_db: float) -> int:
    """About what FLAC or ALAC take; predicted: the reading after gain and limiter."""
    source, bits = predicted.source, output.bits
    assert bits
    is_alac, rounding_power = output.lossless == "alac", _rounding_power(measured.reading, output, gain_db)
    plain_bits = max(0, bits - _ALAC_MOST_BITS) if is_alac else 0
    if rounding_power == 0.0 and not is_alac and measured.reading.bits_used:
        # Bits that are never set cost nothing.
        bits = min(bits, measured.reading.bits_used)
    packer = _ALAC if is_alac else _FLAC_16 if bits <= 16 else _FLAC_24
    words = _Words(
        bits - plain_bits, max(rounding_power, ROUNDING_POWER if plain_bits else 0.0), rounding_power > 0.0
    )
    per_frame = _bits_per_frame(measured, predicted, words, packer) + plain_bits * source.channels
    blocks = -(-source.frames // MOST_FRAMES)
    return packer.file_bytes + blocks * packer.block_bytes + round(source.frames * per_frame / 8)


def _rounding_power(reading: Reading, output: OutputFormat, gain_db: float) -> float:
    """What rounding and dither add, in squares of the last bit; 0 where every sample stays what it is."""
    if not word_length_falls(reading.bits_used, output, gain_db):
        return 0.0
    return TPDF_POWER if dithers(reading.bits_used, output, gain_db) else ROUNDING_POWER


def _bits_per_frame(measured: Measured, predicted: Reading, words: _Words, packer: _Packer) -> float:
    """The mean over the programme: each hop costs what pieces of its level cost."""
    channels, pieces = predicted.source.channels, measured.reading.curves.autocorrelations
    pieces = pieces[:: -(-len(pieces) // _MOST_PIECES) or 1]
    powers = _powers(measured, pieces)
    counts, still_share = measured.hops_by_level
    still = channels * float(_code_bits(np.array(words.rounding_power), words, packer)) if words.move else 0.0
    if not counts or not powers.any():
        return still
    sounding, levels_db = powers > 0.0, np.array(list(counts))
    apart_db = levels_db[:, None] - db_from_energies(powers[sounding])
    moved_db = predicted.rms_dbfs - measured.reading.rms_dbfs
    gains = energies_from_db(apart_db + moved_db) * 4.0 ** (words.bits - 1)
    rows = _coded_rows(pieces[sounding], channels)
    costs = _costs(rows * gains[..., None], channels, words, packer)
    likeness = np.exp(-((apart_db / _LIKE_DB) ** 2)) + 1e-9
    by_level = (costs * likeness).sum(axis=1) / likeness.sum(axis=1)
    weights = np.array(list(counts.values()))
    return float((1.0 - still_share) * (by_level @ weights) / weights.sum() + still_share * still)


def _powers(measured: Measured, pieces: NDArray[np.float64]) -> NDArray[np.float64]:
    """The mean square of each piece, over the channels that `Curves.squares` counts."""
    positions = measured.reading.source.layout.positions
    counted = [number for number, position in enumerate(positions) if position not in LFE_POSITIONS]
    powers: NDArray[np.float64] = pieces[:, counted or slice(None), 0].mean(axis=1)
    return powers


def _coded_rows(pieces: NDArray[np.float64], channels: int) -> NDArray[np.float64]:
    """What is coded, as rows × 1 × pieces × LAGS: every channel; of two also their middle and their difference."""
    rows = np.moveaxis(pieces, 1, 0)[:, None]
    if channels != 2:
        return rows
    left, right, both = rows
    return np.stack([left, right, (left + right + 2.0 * both) / 4.0, left + right - 2.0 * both])


def _costs(rows: NDArray[np.float64], channels: int, words: _Words, packer: _Packer) -> NDArray[np.float64]:
    """Bits of one frame of all channels, for rows × … × LAGS in squares of the last bit."""
    rounded = rows.copy()
    rounded[..., 0] += words.rounding_power
    costs = _code_bits(unforeseen(rounded, packer), words, packer)
    if not words.move:
        costs = np.where(rows[..., 0] > 0.0, costs, 0.0)
    if channels != 2:
        total: NDArray[np.float64] = costs.sum(axis=0)
        return total
    left, right, middle, side = costs
    cheapest: NDArray[np.float64] = np.minimum(left + right, np.minimum(np.minimum(left, right), middle) + side)
    return cheapest


def _code_bits(power: NDArray[np.float64], words: _Words, packer: _Packer) -> NDArray[np.float64]:
    """What a sample costs whose unforeseen part has this power, in squares of the last bit: Gaussian entropy."""
    # Without dither, what is quieter than the last bit is silence.
    fewest_bits = packer.fewest_bits if words.move else min(1.0, packer.fewest_bits)
    entropy = 0.5 * np.log2(fewest_bits**2 + 2.0 * math.pi * math.e * power)
    costs: NDArray[np.float64] = np.clip(entropy + packer.more_bits, 0.0, words.bits)
    return costs


def unforeseen(correlations: NDArray[np.float64], packer: _Packer) -> NDArray[np.float64]:
    """The power that the encoder's predictor leaves; correlations: … × LAGS, in squares of the last bit."""
    predictor, steps = _rounded(_predictor(correlations, packer), packer)
    left = correlations[..., 0].copy()
    left *= (predictor**2).sum(axis=-1)
    for lag in range(1, LAGS):
        left += 2.0 * correlations[..., lag] * (predictor[..., lag:] * predictor[..., :-lag]).sum(axis=-1)
    if packer.is_flac:
        return np.minimum(np.maximum(left, 0.0), _left_by_fixed(correlations))
    moving = _FOLLOWED * correlations[..., 0] + _DIFFERENCES_FOLLOWED * (correlations[..., 0] - correlations[..., 1])
    return np.maximum(left + moving * packer.order * steps**2 / 12.0, 0.0)


def _predictor(correlations: NDArray[np.float64], packer: _Packer) -> NDArray[np.float64]:
    """The error filter of the order that the encoder takes, its first coefficient 1, as … × LAGS.

    The recursion of Levinson and Durbin (Makhoul 1975). FLAC takes the order that is cheapest by its own guess; ALAC
    the highest whose reflection is not small.
    """
    error = correlations[..., 0] * (1.0 + 1e-10) + 1e-30
    kept = _guessed_bits(error, 0, packer)
    filters = np.zeros_like(correlations)
    filters[..., 0] = 1.0
    taken = filters.copy()
    for order in range(1, min(packer.order, LAGS - 1) + 1):
        reflection = -(filters[..., :order] * correlations[..., order:0:-1]).sum(axis=-1) / error
        filters[..., 1 : order + 1] += reflection[..., None] * filters[..., order - 1 :: -1][..., :order]
        error = error * np.maximum(1.0 - reflection**2, 1e-10)
        guessed = _guessed_bits(error, order, packer)
        is_better = guessed < kept if packer.is_flac else np.abs(reflection) > _LEAST_REFLECTION
        kept = np.where(is_better, guessed, kept)
        taken = np.where(is_better[..., None], filters, taken)
    return taken


def _guessed_bits(error: NDArray[np.float64], order: int, packer: _Packer) -> NDArray[np.float64]:
    """What FLAC expects a sample to cost: its residual, taken for Laplacian and no less than 0, and coefficients."""
    residual = 0.5 * np.log2(np.maximum(error * (0.5 * math.log(2.0) ** 2), 1.0))
    guessed: NDArray[np.float64] = residual + order * packer.bits_per_order / MOST_FRAMES
    return guessed


def _rounded(predictor: NDArray[np.float64], packer: _Packer) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """The same with its coefficients in as many bits as the encoder has, what one loses being carried to the next;
    and their steps."""
    largest = np.abs(predictor[..., 1:]).max(axis=-1)
    steps = 2.0 ** (np.floor(np.log2(np.maximum(largest, 1e-9))) + 2 - packer.coefficient_bits)
    rounded, carried = predictor.copy(), 0.0
    for tap in range(1, LAGS):
        wanted = predictor[..., tap] / steps + carried
        rounded[..., tap] = np.round(wanted)
        carried = wanted - rounded[..., tap]
        rounded[..., tap] *= steps
    return rounded, steps


def _left_by_fixed(correlations: NDArray[np.float64]) -> NDArray[np.float64]:
    """The power of the signal or of its first to fourth differences, whichever is least."""
    both = np.concatenate([correlations[..., :0:-1], correlations], axis=-1)
    best, difference = correlations[..., 0], np.array([1.0])
    for _ in range(4):
        difference = np.convolve(difference, [1.0, -1.0])
        own = np.convolve(difference, difference[::-1])
        first, last = LAGS - len(difference), LAGS + len(difference) - 1
        best = np.minimum(best, both[..., first:last] @ own)
    return np.maximum(best, 0.0)
