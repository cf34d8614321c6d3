"""Which frames reach a threshold."""

from typing import Any

import numpy as np
from numpy.typing import NDArray


def frames_reaching(block: NDArray[np.floating[Any]], threshold: float) -> NDArray[np.intp]:
    """The frames of a block, by number, in which any channel reaches it; channel by channel, for that is quicker."""
    reaching = np.abs(block[:, 0]) >= threshold
    for channel in range(1, block.shape[1]):
        reaching |= np.abs(block[:, channel]) >= threshold
    return np.flatnonzero(reaching)
