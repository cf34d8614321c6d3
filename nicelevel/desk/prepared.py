"""Prepared signals as plans ask for them: made in the background, kept under the digest of source and steps."""

from collections.abc import Sequence
from dataclasses import replace
from functools import lru_cache

from nicelevel.core.errors import NiceLevelError, NotPreparedError
from nicelevel.core.plan.formats import possible_formats
from nicelevel.core.prepare import Measured, MeasuredOf, recipe_for
from nicelevel.core.prepare.for_output import recipe_for_two
from nicelevel.core.specs import Spec
from nicelevel.core.steps import Recipe, Step, resolve
from nicelevel.core.steps.chain import described
from nicelevel.core.steps.rate import Rate
from nicelevel.core.values import Shape
from nicelevel.core.values import Source as Described
from nicelevel.store.audio import AudioFolder
from nicelevel.store.found import found_of
from nicelevel.store.prepared import why_not_prepared
from nicelevel.store.readings import is_measured, load_figures, load_reading


class PreparationFailedError(NiceLevelError):
    """A prepared signal could not be made, after some tries."""

    code = "preparation_failed"


REMEMBERED = 128
"""Measured signals whose curves stay in memory: about a megabyte for ten minutes each."""


def prepared_signals(digest: str, audio: AudioFolder) -> MeasuredOf:
    """What gives the prepared signals of the source with this digest."""

    def measured(recipe: Recipe) -> Measured:
        return load_prepared(digest, recipe, audio)

    return measured


def nearly_prepared(digest: str, audio: AudioFolder) -> MeasuredOf:
    """The same, but where only resampling is still to be done, the figures of the source: good enough for a draft."""

    def measured(recipe: Recipe) -> Measured:
        try:
            return load_prepared(digest, recipe, audio)
        except NotPreparedError:
            if not all(isinstance(step, Rate) for step in recipe):
                raise
            near = load_prepared(digest, (), audio)
            chain = resolve(near.chain.before, recipe)
            return replace(
                near, reading=replace(near.reading, source=described(near.reading.source, chain)), chain=chain
            )

    return measured


@lru_cache(maxsize=REMEMBERED)
def load_prepared(digest: str, recipe: Recipe, audio: AudioFolder) -> Measured:
    """A prepared signal with its curves and hops.

    Raises NotPreparedError where it is still to be made, UnsupportedError or EmptyError where it cannot be.
    """
    chain = resolve(_shape_of(digest, audio), recipe, found_of(digest))
    prepared_digest = chain.digest_of(digest)
    if not is_measured(prepared_digest):
        raise _why_missing(prepared_digest, recipe)
    return Measured(load_reading(prepared_digest, audio), chain, audio.load_hops(prepared_digest))


def _shape_of(digest: str, audio: AudioFolder) -> Shape:
    if not is_measured(digest):
        raise NotPreparedError("It is being measured; its plan follows.")
    return load_figures(digest, audio).source.shape


def _why_missing(prepared_digest: str, recipe: Recipe) -> NiceLevelError:
    if why := why_not_prepared(prepared_digest):
        return PreparationFailedError(f"{_being_done(recipe, 'It could not be')}: {why}")
    return NotPreparedError(f"{_being_done(recipe)} and measured; its plan follows.")


def _being_done(recipe: Sequence[Step], how: str = "It is being") -> str:
    return f"{how} " + " and ".join(step.doing for step in recipe)


def missing_preparations(source: Described, digest: str, spec: Spec) -> set[Recipe]:
    """What is to be made of a source before it can be planned for a spec."""
    outputs = [output for _, output in possible_formats(source, spec)]
    asked = {recipe_for(source, each, spec) for output in outputs for each in (output.of_all_channels, output)}
    return {recipe for recipe in asked if is_missing(source, digest, recipe)}


def missing_for_two(source: Described, digest: str) -> Recipe | None:
    """The fold-down that is heard of more than two channels, where it is still to be measured."""
    recipe = recipe_for_two(source.shape)
    return recipe if recipe and is_missing(source, digest, recipe) else None


def is_missing(source: Described, digest: str, recipe: Recipe) -> bool:
    """Whether a prepared signal is still to be made; what cannot be made is not missing, its plan says why."""
    try:
        return not is_measured(resolve(source.shape, recipe, found_of(digest)).digest_of(digest))
    except NotPreparedError:
        return True
    except NiceLevelError:
        return False
