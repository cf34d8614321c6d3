"""Which steps stand between a source and the signal that is levelled for a destination."""

from dataclasses import replace
from typing import TYPE_CHECKING

from ..values import OutputFormat, Preparation, Source
from .fold_down import fold_matrix

if TYPE_CHECKING:
    from ..specs.spec import Spec


UNTOUCHED = Preparation()


def preparation_for(source: Source, output: OutputFormat, spec: "Spec") -> Preparation:
    """What is to be done to a source before it is levelled for an output.

    Raises UnsupportedError where its channels cannot become the output's.
    """
    if output.channel is not None:
        return replace(preparation_for(source, output.of_all_channels, spec), channel=output.channel)
    rate_hz = output.sample_rate_hz if output.sample_rate_hz != source.sample_rate_hz else None
    frames = cut_frames(source, output.sample_rate_hz, spec)
    fade_frames = 0
    if frames is not None:
        fade_frames = min(frames, round((spec.method.closing_fade_s or 0.0) * output.sample_rate_hz))
    if output.layout.positions == source.layout.positions:
        return Preparation(sample_rate_hz=rate_hz, frames=frames, fade_frames=fade_frames)
    matrix = fold_matrix(source.layout, output.layout, spec.channels)
    return Preparation(tuple(map(tuple, matrix.tolist())), output.layout, rate_hz, frames, fade_frames)


def cut_frames(source: Source, rate_hz: int, spec: "Spec") -> int | None:
    """The length that a source is cut to where its spec cuts what is too long; None where it is not cut.

    To the longest of the lengths asked for that it reaches, or to the longest allowed.
    """
    limits = spec.limits
    if spec.method.closing_fade_s is None:
        return None
    lengths = [int(each * rate_hz + 0.5) for each in limits.durations_s or ()]
    if limits.max_duration_s is not None:
        longest = int(limits.max_duration_s * rate_hz)
        lengths = [each for each in lengths if each <= longest] or [longest]
    # A frame more or less is the length that was asked for.
    own = resampled_frames(source, rate_hz)
    reached = [each for each in lengths if each <= own + 1]
    return max(reached) if reached and own > max(reached) + 1 else None


def resampled_frames(source: Source, rate_hz: int) -> int:
    """The length of a source at another rate, to the nearest frame."""
    return (2 * source.frames * rate_hz + source.sample_rate_hz) // (2 * source.sample_rate_hz)
