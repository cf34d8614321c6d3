"""Loudspeakers as the Audio Definition Model names them (ITU-R BS.2076), by the labels of ITU-R BS.2051-3."""

from collections.abc import Sequence
from dataclasses import dataclass

from ..channels import LFE_POSITIONS

LABEL_PREFIX = "urn:itu:bs:2051:"

_ELEVATIONS = {"M": 0.0, "U": 30.0, "T": 90.0}
"""Elevation in degrees of the layers: at the height of the ears, above, at the top."""


@dataclass(frozen=True)
class Speaker:
    """label: as BS.2051 writes it, None where nobody knows; angles in degrees, to the left counted up."""

    label: str | None
    azimuth: float
    elevation: float


_UNKNOWN = Speaker(None, 0.0, 0.0)

_LABELS = {
    "L": "M+030",
    "R": "M-030",
    "C": "M+000",
    "LFE": "LFE1",
    "LFE2": "LFE2",
    "Ls": "M+110",
    "Rs": "M-110",
    "Lb": "M+135",
    "Rb": "M-135",
    "Cb": "M+180",
    "Lc": "M+SC",
    "Rc": "M-SC",
    "Tc": "T+000",
    "Tfl": "U+030",
    "Tfr": "U-030",
    "Tfc": "U+000",
    "Tbl": "U+110",
    "Tbr": "U-110",
    "Tbc": "U+180",
}
_WITH_REAR_PAIR = {
    "Ls": "M+090",
    "Rs": "M-090",
    "Tfl": "U+045",
    "Tfr": "U-045",
    "Tbl": "U+135",
    "Tbr": "U-135",
}
"""Where the rear has loudspeakers of its own, those at the side and above stand elsewhere (systems I and J)."""

_SCREEN_AZIMUTH = 15.0

POSITIONS = {label: position for table in (_WITH_REAR_PAIR, _LABELS) for position, label in table.items()} | {
    "LFE": "LFE",
    "LFEL": "LFE",
    "LFER": "LFE2",
    "M+022": "Lc",
    "M-022": "Rc",
}
"""Our position of each label; the last ones as common practice writes them."""

COMMON = {
    "0001": "L", "0002": "R", "0003": "C", "0004": "LFE", "0005": "Ls", "0006": "Rs", "0007": "Lc", "0008": "Rc",
    "0009": "Cb", "000a": "Ls", "000b": "Rs", "000c": "Tc", "000d": "Tfl", "000e": "Tfc", "000f": "Tfr",
    "0010": "Tbl", "0011": "Tbc", "0012": "Tbr", "001c": "Lb", "001d": "Rb",
    "0020": "LFE",
}  # fmt: skip
"""Positions of the channel formats that need no definition (ITU-R BS.2094, from memory)."""


def speakers_of(positions: Sequence[str | None]) -> list[Speaker]:
    """The loudspeaker of each channel of a layout."""
    labels = {**_LABELS, **_WITH_REAR_PAIR} if "Lb" in positions else _LABELS
    return [_speaker(labels[each]) if each else _UNKNOWN for each in positions]


def position_of(label: str) -> str | None:
    """Our position of a loudspeaker, None where we have none."""
    return POSITIONS.get(label.rpartition(":")[2].strip().upper())


def _speaker(label: str) -> Speaker:
    if label.startswith("LFE"):
        return Speaker(label, 45.0 if label == "LFE1" else -45.0, -30.0)
    layer, sign, degrees = label[0], label[1], label[2:]
    azimuth = _SCREEN_AZIMUTH if degrees == "SC" else float(degrees)
    return Speaker(label, azimuth if sign == "+" else -azimuth, _ELEVATIONS[layer])


def is_lfe(position: str | None) -> bool:
    return position in LFE_POSITIONS
