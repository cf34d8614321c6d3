"""What steps make of a file, whole and in one array."""

import numpy as np

from nicelevel.core.channels import layout_from_count
from nicelevel.core.files import take_in
from nicelevel.core.stages import Mix
from nicelevel.core.steps import Step, listen, resolve


class Times(Step):
    """A matrix of any numbers: louder than any fold-down."""

    do: str = "times"
    rows: tuple[tuple[float, ...], ...]

    def stages(self, before, found):
        return (Mix(before, self.rows, layout_from_count(len(self.rows))),)

    @property
    def doing(self):
        return "made louder"

    def words(self, before, found):
        return ""


def whole(signal, frames=10_007):
    """All frames × channels of a signal."""
    return np.concatenate(list(signal.blocks(frames)))


def chain_of(path, *steps):
    with take_in(path) as audio:
        shape = audio.shape
    return resolve(shape, steps, listen(path))


def made(path, *steps, frames=10_007):
    """All that steps make of a file."""
    with take_in(path) as audio:
        return whole(chain_of(path, *steps).on(audio), frames)
