"""Applying a limiter's gain curve: between its nodes it is a cubic B-spline, sample by sample."""

import numpy as np
from numpy.typing import NDArray

from ..kernels import Floats, Integers, kernel
from ..measure.envelope import ENVELOPE_HOPS_PER_SECOND
from ..plan.gain_curve import BLOCK_HOPS, Curve


def limit_block(block: NDArray[np.float64], first_frame: int, sample_rate_hz: int, curve: Curve) -> None:
    """Multiply frames × channels, the first of which is a programme's `first_frame`, by its gain curve, in place.

    Hop k lies between the frames floor(k · rate / 1000) and floor((k + 1) · rate / 1000).
    """
    apply_curve(block, first_frame, sample_rate_hz, ENVELOPE_HOPS_PER_SECOND, BLOCK_HOPS, curve.rows, curve.row_of)


@kernel
def apply_curve(
    block: Floats,
    first_frame: int,
    sample_rate_hz: int,
    hops_per_second: int,
    block_hops: int,
    rows: Floats,
    row_of: Integers,
) -> None:
    """See `limit_block`. Where all four nodes of a hop are 1, and after the curve, samples stay what they are."""
    frames, channels = block.shape
    hop = first_frame * hops_per_second // sample_rate_hz
    while (hop + 1) * sample_rate_hz // hops_per_second <= first_frame:
        hop += 1
    done = 0
    while done < frames:
        start = hop * sample_rate_hz // hops_per_second
        end = (hop + 1) * sample_rate_hz // hops_per_second
        last = min(frames, end - first_frame)
        at = hop % block_hops
        row = row_of[hop // block_hops] if hop // block_hops < len(row_of) else -1
        a, b, c, d = 1.0, 1.0, 1.0, 1.0
        if row >= 0:
            nodes = rows[row, at:]
            a, b, c, d = float(nodes[0]), float(nodes[1]), float(nodes[2]), float(nodes[3])
        if a < 1.0 or b < 1.0 or c < 1.0 or d < 1.0:
            for frame in range(done, last):
                u = (first_frame + frame - start) / (end - start)
                v = 1.0 - u
                gain = (
                    a * v * v * v
                    + b * (3.0 * u * u * u - 6.0 * u * u + 4.0)
                    + c * (3.0 * v * v * v - 6.0 * v * v + 4.0)
                    + d * u * u * u
                ) / 6.0
                for channel in range(channels):
                    block[frame, channel] *= gain
        done = last
        hop += 1
