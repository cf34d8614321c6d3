"""Usual ways from some channels to others, by the standard or the law that they are called by."""

import math
from collections.abc import Iterator
from contextlib import suppress
from dataclasses import dataclass

from ..channels import Layout, layout_of_name
from ..errors import UnsupportedError
from ..steps.fold import Fold
from ..steps.fold_matrix import fold_matrix

Rows = tuple[tuple[float, ...], ...]


@dataclass(frozen=True)
class Preset:
    """said: what a person should know before choosing it; step: that does the same, where there is one."""

    name: str
    layout: str
    rows: Rows
    said: str
    step: Fold | None = None


AS_IT_CAME = "As it came"


def presets_of(layout: Layout) -> tuple[Preset, ...]:
    """In the order in which they are offered; the first changes nothing."""
    return tuple(_offered(layout))


def _offered(layout: Layout) -> Iterator[Preset]:
    count = len(layout.positions)
    unit = tuple(tuple(float(at == number) for at in range(count)) for number in range(count))
    yield Preset(AS_IT_CAME, layout.name, unit, "Nothing is changed.")
    if count == 1:
        yield Preset("On both sides", "stereo", ((1.0,), (1.0,)), "The same in both: counted 3.01 LU louder.")
    elif count == 2:
        yield from _OF_TWO
    else:
        for name in ("7.1", "5.1", "stereo", "mono"):
            if len(layout_of_name(name).positions) < count:
                with suppress(UnsupportedError):
                    yield _folded(layout, name)


_POWER = math.sqrt(0.5)
_OF_TWO = (
    Preset("One: half of each", "mono", ((0.5, 0.5),), "Equal sides keep their level: 0 dB."),
    Preset("One: −3 dB of each", "mono", ((_POWER, _POWER),), "Equal sides become 3.01 dB louder."),
    Preset("One: the plain sum", "mono", ((1.0, 1.0),), "Equal sides become 6.02 dB louder."),
    Preset("Left alone", "mono", ((1.0, 0.0),), "What is on the right is let go."),
    Preset("Right alone", "mono", ((0.0, 1.0),), "What is on the left is let go."),
    Preset("Sides changed over", "stereo", ((0.0, 1.0), (1.0, 0.0)), "Left becomes right."),
    Preset("Right turned over", "stereo", ((1.0, 0.0), (0.0, -1.0)), "For a side that was wired the wrong way."),
)


def _folded(layout: Layout, name: str) -> Preset:
    step = Fold.model_validate({"layout": name})
    matrix = fold_matrix(layout, layout_of_name(name), step)
    called = "One: by ITU-R BS.775" if name == "mono" else f"{name.capitalize()}: by ITU-R BS.775"
    has_heights = any(str(each).startswith("T") for each in layout.positions)
    said = f"Centre{', surrounds and heights' if has_heights else ' and surrounds'} go in 3 dB down."
    return Preset(called, name, tuple(map(tuple, matrix.tolist())), said, step)
