"""Files that are read in step with others, whatever the size of the blocks that their decoders give."""

from typing import Any

import numpy as np

from ..errors import NiceLevelError
from ..files import Audio
from ..files.blocks import Samples
from ..values import OutputFormat
from .words import in_words

BLOCK_SAMPLES = 1 << 20
"""Of all channels together: memory hangs on it, not on their number."""


class PartError(Exception):
    """What is wrong with one of several files. number: of the file, from 0."""

    def __init__(self, number: int, error: NiceLevelError) -> None:
        super().__init__(error.message)
        self.number, self.error = number, error


class InStep:
    """A file that gives as many frames as it is asked for, silent once it has ended."""

    def __init__(self, audio: Audio, number: int = 0) -> None:
        self._number, self._audio = number, audio
        self._waiting: Samples | None = None
        self._blocks = audio.code_blocks(max(1, BLOCK_SAMPLES // audio.source.channels))

    def words(self, frames: int, output: OutputFormat) -> Samples:
        """The next frames × channels, as an output holds them. Raises PartError where the file cannot be read."""
        have: list[Any] = []
        count = 0
        while count < frames and (block := self._next(output)) is not None:
            have.append(block[: frames - count])
            self._waiting = block[frames - count :]
            count += len(have[-1])
        if count < frames:
            kind = in_words(np.zeros((0, 1), self._audio.coding.dtype), self._audio.coding, output).dtype
            have.append(np.zeros((frames - count, self._audio.source.channels), kind))
        words: Samples = np.concatenate(have) if len(have) > 1 else have[0]
        return words

    def _next(self, output: OutputFormat) -> Samples | None:
        """What waits, else the next block; None at the end."""
        if self._waiting is not None and len(self._waiting):
            return self._waiting
        try:
            codes = next(self._blocks, None)
        except NiceLevelError as error:
            raise PartError(self._number, error) from error
        return None if codes is None else in_words(codes, self._audio.coding, output)
