"""Positions of channels, layouts, WAVE masks and the BS.1770 weight that hangs on a position."""

from collections.abc import Sequence
from dataclasses import dataclass

# Positions in the bit order of the WAVE channel mask (Microsoft WAVEFORMATEXTENSIBLE, bits 0 to 17).
MASK_ORDER = (
    "L", "R", "C", "LFE", "Lb", "Rb", "Lc", "Rc", "Cb", "Ls", "Rs",
    "Tc", "Tfl", "Tfc", "Tfr", "Tbl", "Tbc", "Tbr",
)  # fmt: skip

LFE_POSITIONS = frozenset({"LFE", "LFE2"})

SIDE_WEIGHT = 1.41
"""ITU-R BS.1770-5, Annex 1: Ls and Rs, about +1.5 dB."""

# Azimuth to either side and elevation of each position in degrees (ITU-R BS.2051-3; the wide and the rear ones by
# common practice). What stands lower than 30 degrees and from 60 to 120 to the side weighs more, the rear pair of a
# 7.1 layout and all that hangs above does not (ITU-R BS.1770-5, Annex 3, from memory).
_DIRECTIONS = {
    "L": (30, 0),
    "R": (30, 0),
    "C": (0, 0),
    "Lc": (15, 0),
    "Rc": (15, 0),
    "Ls": (110, 0),
    "Rs": (110, 0),
    "Lb": (135, 0),
    "Rb": (135, 0),
    "Cb": (180, 0),
    "Tc": (0, 90),
    "Tfl": (45, 30),
    "Tfc": (0, 30),
    "Tfr": (45, 30),
    "Tbl": (135, 30),
    "Tbc": (180, 30),
    "Tbr": (135, 30),
}
_HEAVY_AZIMUTHS, _HEAVY_BELOW_ELEVATION = (60, 120), 30


@dataclass(frozen=True)
class Layout:
    """A named arrangement of channels.

    `positions` is in channel order; an unknown layout has None for each channel.
    `assumed` is true where only the channel count spoke for it.
    """

    name: str
    positions: tuple[str | None, ...]
    assumed: bool = False

    @property
    def weights(self) -> tuple[float, ...]:
        """BS.1770 weight of each channel: 0 for LFE, 1.41 for side surrounds, else 1."""
        return tuple(_weight(position) for position in self.positions)


def _weight(position: str | None) -> float:
    if position in LFE_POSITIONS:
        return 0.0
    azimuth, elevation = _DIRECTIONS.get(position or "", (0, 0))
    to_the_side = _HEAVY_AZIMUTHS[0] <= azimuth <= _HEAVY_AZIMUTHS[1]
    return SIDE_WEIGHT if to_the_side and elevation < _HEAVY_BELOW_ELEVATION else 1.0


_LAYOUTS = {
    "mono": ("C",),
    "stereo": ("L", "R"),
    "3.0": ("L", "R", "C"),
    "4.0": ("L", "R", "Ls", "Rs"),
    "5.0": ("L", "R", "C", "Ls", "Rs"),
    "5.1": ("L", "R", "C", "LFE", "Ls", "Rs"),
    "7.1": ("L", "R", "C", "LFE", "Ls", "Rs", "Lb", "Rb"),
    "5.1.2": ("L", "R", "C", "LFE", "Ls", "Rs", "Tfl", "Tfr"),
    "5.1.4": ("L", "R", "C", "LFE", "Ls", "Rs", "Tfl", "Tfr", "Tbl", "Tbr"),
    "7.1.2": ("L", "R", "C", "LFE", "Lb", "Rb", "Ls", "Rs", "Tfl", "Tfr"),
    "7.1.4": ("L", "R", "C", "LFE", "Lb", "Rb", "Ls", "Rs", "Tfl", "Tfr", "Tbl", "Tbr"),
}

# In a layout with one pair of surrounds, the pair is Ls and Rs whether its mask says back or side.
_MASKS = {
    0x4: _LAYOUTS["mono"],
    0x3: _LAYOUTS["stereo"],
    0x7: _LAYOUTS["3.0"],
    0x33: _LAYOUTS["4.0"],
    0x603: _LAYOUTS["4.0"],
    0x37: _LAYOUTS["5.0"],
    0x607: _LAYOUTS["5.0"],
    0x3F: _LAYOUTS["5.1"],
    0x60F: _LAYOUTS["5.1"],
    0x63F: ("L", "R", "C", "LFE", "Lb", "Rb", "Ls", "Rs"),
    0x560F: _LAYOUTS["5.1.2"],
    0x2D60F: _LAYOUTS["5.1.4"],
    0x563F: _LAYOUTS["7.1.2"],
    0x2D63F: _LAYOUTS["7.1.4"],
}
_MASK_OF_NAME = {
    "stereo": 0x3,
    "3.0": 0x7,
    "4.0": 0x33,
    "5.0": 0x607,
    "5.1": 0x60F,
    "7.1": 0x63F,
    "5.1.2": 0x560F,
    "5.1.4": 0x2D60F,
    "7.1.2": 0x563F,
    "7.1.4": 0x2D63F,
}

# FLAC states the layout by count: RFC 9639, section 9.1.3.
_FLAC_MASKS = {1: 0x4, 2: 0x3, 3: 0x7, 4: 0x33, 5: 0x37, 6: 0x3F, 8: 0x63F}

_COUNT_NAMES = {1: "mono", 2: "stereo", 6: "5.1", 8: "7.1"}


def layout_from_mask(mask: int, channels: int) -> Layout | None:
    """Layout that a WAVE mask states, or None where mask and channel count disagree."""
    if mask in _MASKS and len(_MASKS[mask]) == channels:
        positions = _MASKS[mask]
        return Layout(_name(positions), positions)
    if mask == 0 or mask.bit_count() != channels or mask >> len(MASK_ORDER):
        return None
    positions = tuple(MASK_ORDER[bit] for bit in range(len(MASK_ORDER)) if mask >> bit & 1)
    return Layout("mono" if channels == 1 else "unknown", positions)


def layout_from_flac(channels: int) -> Layout:
    """Layout that a FLAC stream states by its channel count."""
    mask = _FLAC_MASKS.get(channels)
    stated = layout_from_mask(mask, channels) if mask else None
    return stated or layout_from_count(channels)


def layout_from_count(channels: int) -> Layout:
    """Layout assumed from the channel count alone: mono, stereo, 5.1, 7.1, else unknown.

    One and two channels are what every container means by them, so only 5.1 and 7.1 are marked assumed.
    """
    name = _COUNT_NAMES.get(channels)
    if name is None:
        return Layout("unknown", (None,) * channels)
    return Layout(name, _LAYOUTS[name], assumed=channels > 2)


def layout_of(layout: Layout, channels: Sequence[int]) -> Layout:
    """Layout of some channels of another, by number: one is mono, two are stereo, more keep their places."""
    if len(channels) <= 2:
        return layout_from_count(len(channels))
    found = layout_of_positions([layout.positions[number] for number in channels])
    return found if found.name != "unknown" else Layout("unknown", (None,) * len(channels))


def layout_of_positions(positions: Sequence[str | None]) -> Layout:
    """The layout whose places these are, in whatever order; without a name where there is none such."""
    if len(positions) == 1:
        return layout_from_count(1)
    known = next((name for name, each in _LAYOUTS.items() if sorted(each) == sorted(map(str, positions))), "unknown")
    return Layout(known, tuple(positions))


def layout_of_name(name: str) -> Layout:
    """The layout that a spec asks for by name, its channels in the order that a WAVE mask gives them."""
    mask = _MASK_OF_NAME.get(name)
    return Layout(name, _MASKS[mask] if mask else _LAYOUTS[name])


def mask_of(layout: Layout) -> int:
    """WAVE mask to write for a layout; 0 where the layout is not known."""
    for mask, positions in _MASKS.items():
        if positions == layout.positions and mask in _MASK_OF_NAME.values():
            return mask
    return 0


def _name(positions: tuple[str, ...]) -> str:
    wanted = sorted(positions)
    return next(name for name, known in _LAYOUTS.items() if sorted(known) == wanted)
