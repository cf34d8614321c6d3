"""What takes the blocks of a programme and writes them."""

from abc import ABC, abstractmethod
from typing import Any

from .blocks import Samples


class Sink(ABC):
    """Takes blocks of frames × channels: integer codes of the word length, or floating-point samples."""

    def write(self, samples: Samples) -> None:
        """Take the next block."""
        self.put(self.ready(samples))

    def ready(self, samples: Samples) -> Any:
        """What `put` takes for a block: may be done ahead in another thread, block after block."""
        return samples

    @abstractmethod
    def put(self, ready: Any) -> None:
        """Write what was made ready, in the same order."""

    @abstractmethod
    def close(self) -> None:
        """Finish the file."""
