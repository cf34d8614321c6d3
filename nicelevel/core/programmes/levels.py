"""What a programme measures, as its description states it (`loudnessMetadata`, ITU-R BS.2076-2, 5.7.2; names of the
elements from memory)."""

import math
from dataclasses import dataclass
from xml.etree.ElementTree import Element, SubElement

from ..values import Reading

METHOD = "ITU-R BS.1770-5"
ELEMENTS = {
    "integrated_lufs": "integratedLoudness",
    "loudness_range_lu": "loudnessRange",
    "true_peak_dbtp": "maxTruePeak",
    "max_momentary_lufs": "maxMomentary",
    "max_short_term_lufs": "maxShortTerm",
    "dialogue_lufs": "dialogueLoudness",
}
"""By the figure of a reading."""


@dataclass(frozen=True)
class Levels:
    """By the names of ELEMENTS; what is not there is not stated."""

    figures: dict[str, float]


def levels_of(reading: Reading) -> Levels:
    """What is stated of a programme: every figure that it has."""
    found = {name: getattr(reading, name) for name in ELEMENTS}
    return Levels({name: value for name, value in found.items() if value is not None and math.isfinite(value)})


def put_levels(parent: Element, levels: Levels) -> None:
    """Write them into the description of a programme, to a hundredth."""
    told = SubElement(parent, "loudnessMetadata", {"loudnessMethod": METHOD})
    for name, element in ELEMENTS.items():
        if name in levels.figures:
            SubElement(told, element).text = f"{levels.figures[name]:.2f}"


def read_levels(programme: Element) -> Levels:
    """What is stated of a programme, whatever the namespace; what is no number is not stated."""
    found: dict[str, float] = {}
    names = {element: name for name, element in ELEMENTS.items()}
    for each in programme.iter():
        name = names.get(str(each.tag).rpartition("}")[2])
        if name and name not in found:
            try:
                found[name] = float(each.text or "")
            except ValueError:
                continue
    return Levels({name: value for name, value in found.items() if math.isfinite(value)})
