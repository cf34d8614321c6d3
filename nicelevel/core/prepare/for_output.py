"""Which steps a destination and its format ask for, in the order of their run."""

from collections.abc import Iterator
from contextlib import suppress
from typing import TYPE_CHECKING

from ..errors import UnsupportedError
from ..stages.resample import resampled_frames
from ..steps import Recipe, Step, resolve
from ..steps.fold import Fold
from ..steps.keep import Keep
from ..steps.length import Length
from ..steps.rate import Rate
from ..steps.speech import Speech
from ..values import OutputFormat, Shape, Source

if TYPE_CHECKING:
    from ..specs.spec import Channels, Spec


def recipe_for(source: Source, output: OutputFormat, spec: "Spec") -> Recipe:
    """What is to be done to a source before it is levelled for an output.

    Its own recipe, and after it what its format asks for, where that changes something; where the level is that of
    speech, what hears it.
    """
    return (*source.recipe, *_asked(source.shape, output, spec))


def _asked(shape: Shape, output: OutputFormat, spec: "Spec") -> Iterator[Step]:
    layout = output.part_of or output.layout
    if layout.positions != shape.layout.positions:
        yield folded_to(layout.name, spec.channels)
    rate_hz = output.sample_rate_hz
    if rate_hz != shape.rate_hz:
        yield Rate(hz=rate_hz)
    frames = cut_frames(shape, rate_hz, spec)
    if frames is not None:
        yield Length(seconds=frames / rate_hz, fade_s=spec.method.closing_fade_s or 0.0)
    if spec.loudness is not None and spec.loudness.measure == "dialogue":
        yield Speech()
    if output.channel is not None:
        yield Keep(channels=(output.channel + 1,))


def folded_to(layout: str, channels: "Channels") -> Fold:
    """The fold-down to a layout with the shares of a spec."""
    return Fold.model_validate({"layout": layout, **channels.model_dump()})


def cut_frames(shape: Shape, rate_hz: int, spec: "Spec") -> int | None:
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
    own = resampled_frames(shape.frames, shape.rate_hz, rate_hz)
    reached = [each for each in lengths if each <= own + 1]
    return max(reached) if reached and own > max(reached) + 1 else None


def recipe_for_two(shape: Shape) -> Recipe | None:
    """What two loudspeakers get of more than two channels, whose loudness everything is matched by; None where that
    is the source itself, or cannot be told.
    """
    recipe = (Fold(layout="stereo"),)
    with suppress(UnsupportedError):
        return recipe if shape.channels > 2 and resolve(shape, recipe) else None
    return None
