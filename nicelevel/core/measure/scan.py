"""The one pass over all samples: what is cheap to know of each, taken while it is in the cache.

A recursive filter waits for its own last result. So several stretches of the programme go through it side by side,
each channel of each stretch in its own lane; the processor takes eight lanes at once. A stretch begins a while before
its first counted hop, from rest: what the filter would still remember of earlier audio is then under 1e-20 of it,
less than double precision holds.
"""

from ..files.codes import read
from ..kernels import Floats, Integers, vectorised

HOPS_AT_ONCE = 10
"""Taken out of the codes together: long enough to be fetched ahead, short enough to stay in the cache."""

LANES = 16
"""Fixed, so that the compiler knows where everything lies; those that are not needed stay silent."""

HALF = LANES // 2
"""Of two channels, this is how far the lanes of the second are from those of the first."""

SMALLEST_STATE = 1e-30
"""Filter memory below this is set to zero, or silence would decay into slow denormal numbers."""

# Where each value of a lane lies in `values` (float64) and in `spans` (the type of the codes).
_P, _Q, _R, _S, _ENERGY, _SUM, _SQUARE, _PRODUCT = (LANES * row for row in range(8))
_LOW, _HIGH, _BITS = (LANES * row for row in range(3))
VALUES, SPANS = 8 * LANES, 3 * LANES


@vectorised
def scan(
    codes: Integers,
    first_channel: int,
    channels: int,
    edges: Integers,
    rest_hops: int,
    stretch_hops: int,
    hops_per_sum: int,
    biquads: Floats,
    tile: Integers,
    values: Floats,
    spans: Integers,
    energies: Floats,
    lows: Floats,
    highs: Floats,
    sums: Floats,
) -> None:
    """Measure stretches of a programme that follow one another, after a rest of `rest_hops`.

    codes: frames × channels; frames that are missing at its end count as 0. Of its channels `channels` are measured,
    from the first one given, LANES at most. edges: borders of the hops in frames. biquads: 2 × 5.
    tile: HOPS_AT_ONCE longest hops × (LANES + HALF), zeros; values, spans: VALUES and SPANS long, zeros; spans ends
    with the bits that were ever set in each lane. Results, in units of a code: energies: channels × hops, sum of the
    K-weighted squares less the filter's gain; lows, highs: channels × hops; sums: channels × 3 × sums: of samples, of
    squares, and, where there are two channels, of products.
    """
    lanes = LANES // channels
    stretches = energies.shape[1] // stretch_hops
    done = 0
    for hop in range(rest_hops + stretch_hops):
        if hop % HOPS_AT_ONCE == 0:
            length = edges[hop + HOPS_AT_ONCE] - edges[hop]
            apart = edges[stretch_hops] - edges[0]
            missing = edges[(stretches - 1) * stretch_hops + hop] + length > len(codes)
            if channels <= 2 and stretches == lanes and not missing:
                take_rows(codes[edges[hop] :], channels, length, apart, tile)
            else:
                for stretch in range(stretches):
                    first = edges[stretch * stretch_hops + hop]
                    take(codes[first : first + length], first_channel, channels, length, stretch, tile)
            done = 0
        frames = edges[hop + 1] - edges[hop]
        if hop == rest_hops:
            clear_sums(values)
        measure_lanes(tile[done : done + frames], biquads, values, spans)
        done += frames
        at = hop - rest_hops
        if at < 0:
            continue
        for channel in range(channels):
            for stretch in range(stretches):
                lane = channel * lanes + stretch
                to = stretch * stretch_hops + at
                energies[channel, to] = values[_ENERGY + lane]
                lows[channel, to], highs[channel, to] = float(spans[_LOW + lane]), float(spans[_HIGH + lane])
        if at % hops_per_sum == hops_per_sum - 1:
            collect(values, channels, stretches, at // hops_per_sum, stretch_hops // hops_per_sum, sums)


@vectorised
def take(codes: Integers, first_channel: int, channels: int, frames: int, stretch: int, tile: Integers) -> None:
    """A piece of codes into the lanes of its stretch; what is missing at its end is 0."""
    for channel in range(channels):
        lane = channel * (LANES // channels) + stretch
        for frame in range(len(codes)):
            tile[frame, lane] = read(codes, frame, first_channel + channel)
        for frame in range(len(codes), frames):
            tile[frame, lane] = 0


@vectorised
def take_rows(codes: Integers, channels: int, frames: int, apart: int, tile: Integers) -> None:
    """Pieces of one or two channels into all lanes, a row at a time, from stretches that lie so many frames apart.

    Half as long as lane after lane: the processor gathers a row at once where it knows how many lanes there are.
    """
    for frame in range(frames):
        row = tile[frame]
        if channels == 2:
            for lane in range(HALF):
                row[lane] = read(codes, frame + lane * apart, 0)
            for lane in range(HALF):
                row[lane + HALF] = read(codes, frame + lane * apart, 1)
        else:
            for lane in range(LANES):
                row[lane] = read(codes, frame + lane * apart, 0)


@vectorised
def measure_lanes(tile: Integers, biquads: Floats, values: Floats, spans: Integers) -> None:
    """All that is done with every sample, for some frames of every lane.

    The K-weighting is in transposed direct form II with the output put into the recursion, so that the fewest results
    wait for another; the first coefficient of each biquad is left out.
    """
    first, second = biquads[0], biquads[1]
    a1, a2, d1, d2 = first[3], first[4], second[3], second[4]
    e1, e2 = first[1] / first[0] - a1, first[2] / first[0] - a2
    f1, f2 = second[1] / second[0] - d1, second[2] / second[0] - d2
    for lane in range(LANES):
        values[_ENERGY + lane] = 0.0
        spans[_LOW + lane] = tile[0, lane]
        spans[_HIGH + lane] = tile[0, lane]
    for frame in range(len(tile)):
        samples = tile[frame]
        for lane in range(LANES):
            code = samples[lane]
            spans[_LOW + lane] = code if code < spans[_LOW + lane] else spans[_LOW + lane]
            spans[_HIGH + lane] = code if code > spans[_HIGH + lane] else spans[_HIGH + lane]
            spans[_BITS + lane] = with_bits(spans[_BITS + lane], code)
            x, was_p, was_r = float(code), values[_P + lane], values[_R + lane]
            values[_SUM + lane] += x
            values[_SQUARE + lane] += x * x
            values[_PRODUCT + lane] += x * float(samples[lane + HALF])
            y = x + was_p
            z = y + was_r
            values[_P + lane] = (e1 * x + values[_Q + lane]) - a1 * was_p
            values[_Q + lane] = e2 * x - a2 * was_p
            values[_R + lane] = (f1 * y + values[_S + lane]) - d1 * was_r
            values[_S + lane] = f2 * y - d2 * was_r
            values[_ENERGY + lane] += z * z
    for at in range(_ENERGY):
        values[at] = values[at] if abs(values[at]) > SMALLEST_STATE else 0.0


@vectorised
def with_bits(bits: int, code: int) -> int:
    return bits | code


@vectorised
def without_bits(bits: float, code: float) -> float:
    """Floating point has no bits that could be left unused."""
    return bits


@vectorised
def collect(values: Floats, channels: int, stretches: int, at: int, sums_per_stretch: int, sums: Floats) -> None:
    """Put the sums of every lane in their place, and begin them anew."""
    for channel in range(channels):
        for stretch in range(stretches):
            lane, to = channel * (LANES // channels) + stretch, stretch * sums_per_stretch + at
            sums[channel, 0, to] = values[_SUM + lane]
            sums[channel, 1, to] = values[_SQUARE + lane]
            sums[channel, 2, to] = values[_PRODUCT + lane]
    clear_sums(values)


@vectorised
def clear_sums(values: Floats) -> None:
    for at in range(_SUM, VALUES):
        values[at] = 0.0
