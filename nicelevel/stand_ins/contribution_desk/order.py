"""Whether channels hold what their names say, told from the audio: bass alone in the LFE, speech in the centre, and
two channels that are the fold-down of the others show which one is which.
"""

import itertools
from collections.abc import Iterator, Sequence
from dataclasses import replace
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from nicelevel.core.channels import layout_of_name
from nicelevel.core.crossing import InCommon, listen_in_common
from nicelevel.core.files import take_in
from nicelevel.core.files.selected import Selected
from nicelevel.core.speech import dialogue_of
from nicelevel.core.steps.fold import Fold
from nicelevel.core.steps.fold_matrix import fold_matrix
from nicelevel.core.units import db_from_energy

Floats = NDArray[np.float64]

SIX, TWO = layout_of_name("5.1"), layout_of_name("stereo")
BASS_HZ, BASS_SHARE = 250.0, 0.9
"""Of what an LFE channel holds so much lies under this frequency (its low-pass is at 120 Hz: common practice)."""

FOLDED_SHARE, SHARE_TOLERANCE = 0.98, 0.12
"""Two channels are a fold-down where so much of their energy is told by the others; shares are right within this."""

SPOKEN_SHARE, LOUDER_DB = 0.15, 3.0
SILENT_DB = -90.0


def silent_channels(common: InCommon) -> list[int]:
    """By number from 0: nothing over -90 dBFS."""
    energies = np.diagonal(common.over_time.mean(axis=0))
    return [number for number, energy in enumerate(energies) if db_from_energy(float(energy)) < SILENT_DB]


def reordered(common: InCommon, channels: Sequence[int]) -> InCommon:
    """The same of some channels, in this order."""
    at = (
        np.ix_(range(len(common.by_band)), channels, channels),
        np.ix_(range(len(common.over_time)), channels, channels),
    )
    return replace(common, by_band=common.by_band[at[0]], over_time=common.over_time[at[1]])


def wrong_order(common: InCommon, names: Sequence[str]) -> list[str]:
    """Sentences of what speaks against the order of six channels and two; none where nothing does.

    names: of all eight, as they are called in a sentence.
    """
    return [*_wrong_bass(common, names), *_wrong_fold_down(common, names)]


def _wrong_bass(common: InCommon, names: Sequence[str]) -> Iterator[str]:
    powers = np.diagonal(common.by_band, axis1=1, axis2=2)
    shares = powers[common.bands_hz < BASS_HZ].sum(axis=0) / np.maximum(powers.sum(axis=0), 1e-30)
    lfe, silent = SIX.positions.index("LFE"), silent_channels(common)
    if lfe not in silent and shares[lfe] < BASS_SHARE:
        bass = [n for n in range(len(names)) if n not in silent and shares[n] >= BASS_SHARE]
        where = f"; bass alone is in {names[bass[0]]}" if bass else ""
        yield f"{names[lfe]} holds more than bass ({100 * (1 - shares[lfe]):.0f} % above {BASS_HZ:.0f} Hz){where}."


def _wrong_fold_down(common: InCommon, names: Sequence[str]) -> Iterator[str]:
    products = common.over_time.sum(axis=0)
    six, two = list(range(6)), [6, 7]
    shares, told = _shares_in(products, six, two)
    if told >= FOLDED_SHARE:
        if not _is_fold_down(shares):
            yield f"By what {names[6]} and {names[7]} are made of, the order is {_order_words(shares, names)}."
        return
    for pair in itertools.permutations(range(8), 2):
        rest = [number for number in range(8) if number not in pair]
        shares, told = _shares_in(products, rest, list(pair))
        if told >= FOLDED_SHARE and _is_some_fold_down(shares):
            yield f"The fold-down of the others lies on {names[pair[0]]} and {names[pair[1]]}."
            return


def _shares_in(products: Floats, of: Sequence[int], two: Sequence[int]) -> tuple[Floats, float]:
    """By which shares of some channels two others are told best, 2 × channels; how much of their energy that is."""
    own, against = products[np.ix_(of, of)], products[np.ix_(of, two)]
    energies = np.diagonal(products)[list(two)]
    if not energies.all():
        return np.zeros((2, len(of))), 0.0
    shares = np.linalg.pinv(own, rcond=1e-9, hermitian=True) @ against
    told = np.einsum("ij,ij->j", shares, against) / energies
    return shares.T, float(told.min())


def _expected() -> Floats:
    """The shares of BS.775 without the LFE, whatever the level."""
    rows = fold_matrix(SIX, TWO, Fold(layout="stereo"))
    scaled: Floats = rows / np.abs(rows).max()
    return scaled


def _is_fold_down(shares: Floats) -> bool:
    """Whether each is near to its place in the standard's matrix; surrounds and LFE may have been left out."""
    scaled = shares / max(1e-12, float(np.abs(shares[:, :2]).max()))
    expected = _expected()
    lfe = SIX.positions.index("LFE")
    off = np.abs(scaled - expected)
    off[:, lfe] = 0.0
    without = np.abs(scaled[:, 4:]) <= SHARE_TOLERANCE
    off[:, 4:] = np.where(without.all(), 0.0, off[:, 4:])
    return bool((off <= SHARE_TOLERANCE).all())


def _is_some_fold_down(shares: Floats) -> bool:
    return any(_is_fold_down(shares[:, list(order)]) for order in itertools.permutations(range(6)))


def _order_words(shares: Floats, names: Sequence[str]) -> str:
    """Where each channel seems to lie; that it is none that is known."""
    for order in itertools.permutations(range(6)):
        if _is_fold_down(shares[:, list(order)]):
            at = {channel: position for position, channel in enumerate(order)}
            return ", ".join(f"{SIX.positions[at[number]]}" for number in range(6))
    return "another one, or the sides of the two are exchanged"


def wrong_speech(path: Path, channels: Sequence[int], names: Sequence[str]) -> str:
    """A sentence where speech is elsewhere than in the centre; empty where it is not. channels: of six, from 0."""
    heard = {}
    for position, channel in zip(SIX.positions, channels, strict=True):
        if position != "LFE":
            with take_in(path) as audio:
                heard[str(position)] = dialogue_of(Selected(audio, [channel]))
    most = max(heard, key=lambda position: (heard[position].share >= SPOKEN_SHARE, heard[position].lufs))
    centre, other = heard["C"], heard[most]
    if most == "C" or other.share < SPOKEN_SHARE or other.lufs < centre.lufs + LOUDER_DB:
        return ""
    return f"Speech is in {names[SIX.positions.index(most)]}, and the centre has none as loud."


def listened(path: Path) -> InCommon:
    """What every two channels of a file have in common. Raises as a file that cannot be read."""
    with take_in(path) as audio:
        return listen_in_common(audio)
