"""Some channels of an open file, or of any other signal."""

from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING, Any

from numpy.typing import NDArray

from ..values import Shape
from .blocks import Block
from .codes import Coding

if TYPE_CHECKING:
    from ..signals import Signal


class Selected:
    """channels: by number, in the order that is asked for; their samples stay what they are."""

    def __init__(self, before: "Signal", channels: Sequence[int], shape: Shape | None = None) -> None:
        self.shape = shape or before.shape.with_channels(channels)
        self._before, self._channels = before, tuple(channels)
        first, is_run = self._channels[0], self._channels == tuple(range(channels[0], channels[0] + len(channels)))
        # Of channels side by side no copy is made.
        self._taken: slice | list[int] = slice(first, first + len(channels)) if is_run else list(channels)

    @property
    def coding(self) -> Coding:
        return self._before.coding

    def blocks(self, frames: int) -> Iterator[Block]:
        return (block[:, self._taken] for block in self._before.blocks(frames))

    def code_blocks(self, frames: int) -> Iterator[NDArray[Any]]:
        return (block[:, self._taken] for block in self._before.code_blocks(frames))

    def window(self, first: int, last: int) -> Block:
        return self._before.window(first, last)[:, self._taken]

    def only(self, channels: Sequence[int]) -> "Selected":
        return Selected(self._before, [self._channels[number] for number in channels])
