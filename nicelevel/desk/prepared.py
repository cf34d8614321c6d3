"""Prepared signals as plans ask for them: made in the background, kept under the digest of source and steps."""

from collections.abc import Sequence
from dataclasses import replace
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from nicelevel.core.errors import NiceLevelError, NotPreparedError
from nicelevel.core.plan.formats import possible_formats
from nicelevel.core.prepare import Measured, MeasuredOf, recipe_for
from nicelevel.core.prepare.for_output import recipe_for_two
from nicelevel.core.prepare.measured import with_speech
from nicelevel.core.prepare.under import level_under
from nicelevel.core.specs import Spec
from nicelevel.core.steps import Recipe, Step, resolve
from nicelevel.core.steps.chain import described
from nicelevel.core.steps.rate import Rate
from nicelevel.core.words import listed
from nicelevel.store.audio import AudioFolder
from nicelevel.store.prepared import why_not_prepared
from nicelevel.store.readings import is_measured, load_figures, load_reading

from .contents import Contents, described_of


class PreparationFailedError(NiceLevelError):
    """A prepared signal could not be made, after some tries."""

    code = "preparation_failed"


REMEMBERED = 128
"""Measured signals whose curves stay in memory: about a megabyte for ten minutes each."""


def prepared_signals(contents: Contents, audio: AudioFolder) -> MeasuredOf:
    """What gives the prepared signals of some audio."""

    def measured(recipe: Recipe) -> Measured:
        return load_prepared(contents, recipe, audio)

    return measured


def nearly_prepared(contents: Contents, audio: AudioFolder) -> MeasuredOf:
    """The same, but where only resampling is still to be done, the figures of the source: good enough for a draft."""

    def measured(recipe: Recipe) -> Measured:
        try:
            return load_prepared(contents, recipe, audio)
        except NotPreparedError:
            if not all(isinstance(step, Rate) for step in recipe):
                raise
            near = load_prepared(contents, (), audio)
            chain = resolve(near.chain.before, recipe)
            return replace(
                near, reading=replace(near.reading, source=described(near.reading.source, chain)), chain=chain
            )

    return measured


def load_prepared(contents: Contents, recipe: Recipe, audio: AudioFolder) -> Measured:
    """What steps make of some audio, all of them, with its curves and hops.

    Raises NotPreparedError where it is still to be made, UnsupportedError or EmptyError where it cannot be.
    """
    return _load_prepared(replace(contents, recipe=()), recipe, audio)


@lru_cache(maxsize=REMEMBERED)
def _load_prepared(contents: Contents, recipe: Recipe, audio: AudioFolder) -> Measured:
    try:
        chain = contents.resolved(recipe, audio)
    except NotPreparedError:
        raise _why_missing(contents.name_of(recipe), recipe) from None
    digest = contents.name_of_chain(chain)
    # What was made may be thrown away; the audio itself has just been asked for.
    if digest != contents.digest and not is_measured(digest):
        raise _why_missing(digest, recipe)
    return Measured(with_speech(load_reading(digest, audio), chain), chain, audio.load_hops(digest))


def _why_missing(prepared_digest: str, recipe: Recipe) -> NiceLevelError:
    if why := why_not_prepared(prepared_digest):
        return PreparationFailedError(f"{_being_done(recipe, 'It could not be')}: {why}")
    if not recipe:
        return NotPreparedError("It is being measured; its plan follows.")
    return NotPreparedError(f"{_being_done(recipe)} and measured; its plan follows.")


def _being_done(recipe: Sequence[Step], how: str = "It is being") -> str:
    return f"{how} {listed([step.doing for step in recipe])}"


def missing_preparations(contents: Contents, spec: Spec, audio: AudioFolder) -> set[Recipe]:
    """What is to be made of some audio before it can be planned for a spec.

    Where a step has to listen first, the steps up to it: what its format asks for can be told only then.
    """
    contents = contents.then(spec)
    try:
        source = described_of(contents, audio)
    except NotPreparedError:
        return {contents.recipe} if contents.recipe else set()
    except NiceLevelError:
        return set()
    outputs = [output for _, output in possible_formats(source, spec)]
    asked = {recipe_for(source, each, spec) for output in outputs for each in (output.of_all_channels, output)}
    return {recipe for recipe in asked if is_missing(contents, recipe, audio)}


@lru_cache(maxsize=64)
def level_of_what_is_under(digest: str, hz: float, order: int, audio: AudioFolder) -> NDArray[np.float64] | None:
    """RMS every 10 ms of what some audio has under a frequency, as a high-pass of an order would take it away."""
    return level_under(audio.load_hops(digest).low_band, hz, order)


def missing_for_two(contents: Contents, audio: AudioFolder) -> Recipe | None:
    """The fold-down that is heard of more than two channels, where it is still to be measured."""
    recipe = recipe_for_two(load_figures(contents.digest, audio).source.shape)
    return recipe if recipe and is_missing(contents, recipe, audio) else None


def is_missing(contents: Contents, recipe: Recipe, audio: AudioFolder) -> bool:
    """Whether a prepared signal is still to be made; what cannot be made is not missing, its plan says why."""
    try:
        return not is_measured(contents.name_of_chain(contents.resolved(recipe, audio)))
    except NotPreparedError:
        return True
    except NiceLevelError:
        return False
