"""What both decoders share: the kind of their blocks, and the sentence for a file that ends too early."""

from typing import TYPE_CHECKING, Any, Protocol

import numpy as np
from numpy.typing import NDArray

from ..errors import TruncatedError
from ..units import seconds_from_frames
from ..values import Source

if TYPE_CHECKING:
    from .codes import CodeBuffer, Coding

Samples = NDArray[np.int32] | NDArray[np.float32] | NDArray[np.float64]
"""What is written: integer codes of the word length, or floating-point samples."""

Block = NDArray[np.floating[Any]]


class Decoder(Protocol):
    """An open file: described by `source`, read from its start, or from anywhere where it can seek."""

    source: Source
    coding: "Coding"
    opens_at_once: bool
    is_coded: bool

    @property
    def can_seek(self) -> bool: ...

    def read_into(self, buffer: "CodeBuffer", first: int, last: int) -> int:
        """Fill at most the frames from first to last of a buffer of this coding; how many were, 0 at the end."""

    def read(self, frames: int) -> Block:
        """At most so many frames × channels; none at the end."""

    def seek(self, frame: int) -> None:
        """Go on reading from a frame. Raises UnsupportedError where that cannot be done exactly."""

    def close(self) -> None: ...


def exact_in_single(source: Source) -> bool:
    """Whether float32 holds every sample of a source exactly."""
    return source.encoding != "float_64" and (source.bits_declared or 0) <= 24


def truncated(done: int, promised: int, sample_rate_hz: int) -> TruncatedError:
    """The error of a file that ends after `done` of `promised` frames."""
    ends, promises = (seconds_from_frames(frames, sample_rate_hz) for frames in (done, promised))
    return TruncatedError(f"The file ends at {ends:.3f} s, but its header promises {promises:.3f} s.")
