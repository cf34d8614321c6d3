"""What every signal can be asked for: a decoded file, what a stage makes of it, what was kept of that."""

from collections.abc import Iterator, Sequence
from typing import Any, Protocol, Self

import numpy as np
from numpy.typing import NDArray

from ..files.blocks import Block
from ..files.codes import DOUBLE, Coding
from ..values import Shape

Columns = Sequence[NDArray[np.floating[Any]]]
"""A block as an array for each channel."""


class Seekable(Protocol):
    """Frames × channels from anywhere, ±1.0 at full scale."""

    @property
    def shape(self) -> Shape:
        """Rate, layout and exact length."""

    def window(self, first: int, last: int) -> Block:
        """From `first` to before `last`, both inside. Raises UnsupportedError where there is only a start."""


class Signal(Seekable, Protocol):
    """Whatever is asked for, in blocks of whatever size: the samples are the same."""

    @property
    def coding(self) -> Coding:
        """How `code_blocks` holds the samples."""

    def blocks(self, frames: int) -> Iterator[Block]:
        """All of it from the start, the last block shorter. May be asked for once."""

    def code_blocks(self, frames: int) -> Iterator[NDArray[Any]]:
        """The same as codes: what is held as whole numbers stays so until a sum needs more."""

    def only(self, channels: Sequence[int]) -> "Signal":
        """Some of its channels, by number: what nobody asks for is not computed."""


class Derived:
    """What a stage makes of a signal: floating point. A base for signals that have one `before` them, all of whose
    channels are treated alike.
    """

    coding = DOUBLE

    def __init__(self, before: Signal, shape: Shape) -> None:
        self.before, self.shape = before, shape

    def blocks(self, frames: int) -> Iterator[Block]:
        raise NotImplementedError

    def code_blocks(self, frames: int) -> Iterator[NDArray[Any]]:
        return self.blocks(frames)

    def columns(self, frames: int) -> Iterator[Columns]:
        """The same blocks, each channel by itself: so a filter makes them, and so they are rounded quickest."""
        return (tuple(block.T) for block in self.blocks(frames))

    def only(self, channels: Sequence[int]) -> Self:
        return self.after(self.before.only(channels))

    def after(self, before: Signal) -> Self:
        """The same done to another signal of this rate and length."""
        raise NotImplementedError


def columns_of(signal: Signal, frames: int) -> Iterator[Columns]:
    """The blocks of any signal, each channel by itself."""
    if isinstance(signal, Derived):
        return signal.columns(frames)
    return (tuple(block.T) for block in signal.blocks(frames))


def side_by_side(columns: Sequence[NDArray[Any]]) -> NDArray[Any]:
    """One array for each channel as frames × channels, each channel still in one piece of memory."""
    return np.array(columns).T
