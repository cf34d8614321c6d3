"""What is heard on the Channels view: a source as it came, with its channels as they are drawn, and what is lost.

Two loudspeakers play all of it. What is lost is what they get of the source less what they get afterwards, and what
is left out on the way: the low effects of a fold-down, the sides of what becomes one channel.
"""

import json
from contextlib import suppress
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from nicelevel.core.channels import Layout, layout_of_name
from nicelevel.core.crossing import level_change_lu
from nicelevel.core.crossing.presets import Rows
from nicelevel.core.errors import UnsupportedError
from nicelevel.core.hear import HeardLevel, heard_lufs, matched_gains_db, real_gains_db
from nicelevel.core.hear.programmes import fold_for_two
from nicelevel.core.signals import Signal
from nicelevel.core.stages import Mix
from nicelevel.core.values import Shape
from nicelevel.store.audio import AudioFolder
from nicelevel.store.models import Source
from nicelevel.store.readings import load_figures

from .channels import Crossing, in_common
from .hearing import Audible
from .hearing_sheet import Heard, HearingSheet, playable_rate

Which = Literal["before", "after", "lost"]
NAMES: dict[Which, tuple[str, str]] = {
    "before": ("As it came", "by two loudspeakers"),
    "after": ("As it is drawn", "whether it is kept or not"),
    "lost": ("What is lost", "what two loudspeakers get before, less what they get after, and what is left out"),
}
TWO = layout_of_name("stereo")
LEFT_OUT_RATIO = 0.5**0.5
"""What is left out is heard from both sides alike, with the energy that it has."""


def channels_sheet(source: Source, shape: Shape, crossing: Crossing, audio: AudioFolder) -> HearingSheet:
    """What is heard of a source whose channels become others. Levels are told from what channels have in common."""
    reading, common = load_figures(source.digest, audio), in_common(source.digest, audio)
    came = reading.integrated_lufs
    stamp = json.dumps({"layout": crossing.layout, "rows": crossing.rows}, separators=(",", ":"))
    takes = []
    for which, (name, detail) in NAMES.items():
        rows, layout = heard_rows(which, shape, crossing)
        change_lu = level_change_lu(common, rows, layout.weights)
        lufs = -np.inf if change_lu is None else came + change_lu
        level = HeardLevel(heard_lufs(float(lufs), layout), reading.true_peak_dbtp + min(0.0, change_lu or 0.0))
        takes.append(
            Audible(
                f"channels-{which}",
                "plan" if which == "after" else "source",
                name,
                detail,
                level,
                shape.rate_hz,
                shape.duration_s,
                stamp,
                is_here=True,
                address=f"/sources/{source.id}/channels/hear/{which}",
            )
        )
    levels = [each.level for each in takes]
    heard = tuple(map(Heard, takes, matched_gains_db(levels), real_gains_db(levels)))
    return HearingSheet(source, None, playable_rate(shape.rate_hz), shape.duration_s, heard, ())


def heard_rows(which: Which, shape: Shape, crossing: Crossing) -> tuple[Rows, Layout]:
    """The shares of each channel in what is heard, and the layout that it has."""
    as_drawn = shape.layout if crossing.layout == shape.layout.name else layout_of_name(crossing.layout)
    if which == "after":
        return crossing.rows, as_drawn
    own = np.eye(shape.channels)
    if which == "before":
        return _rows(own), shape.layout
    before = _for_two(shape.layout) @ own
    left_out = ~np.array(crossing.rows, np.float64).any(axis=0) & ~before.any(axis=0)
    before[:, left_out] = LEFT_OUT_RATIO
    return _rows(before - _for_two(as_drawn) @ np.array(crossing.rows, np.float64)), TWO


def _for_two(layout: Layout) -> NDArray[np.float64]:
    """What two loudspeakers get of a layout; of one that is not known its first two channels."""
    with suppress(UnsupportedError):
        return fold_for_two(layout)
    count = len(layout.positions)
    return np.eye(count)[[0, min(1, count - 1)]]


def _rows(matrix: NDArray[np.float64]) -> Rows:
    return tuple(tuple(map(float, row)) for row in matrix)


def heard_of(signal: Signal, which: Which, crossing: Crossing) -> Signal:
    """What is heard of an open source."""
    rows, layout = heard_rows(which, signal.shape, crossing)
    return Mix(signal.shape, rows, layout).on(signal)
