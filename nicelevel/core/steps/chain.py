"""Steps one after the other, resolved for a source: which stages they come to, and how what results is called."""

import hashlib
import json
from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property

from ..errors import EmptyError
from ..files.codes import DOUBLE, HELD, Coding
from ..signals import OnGrid, Signal, Timeline
from ..stages import Stage
from ..values import Shape, Source
from .found import FoundOf
from .step import Found, Step

Recipe = tuple[Step, ...]


@dataclass(frozen=True)
class Done:
    """A step and what it found, with the stages that the two come to."""

    step: Step
    found: Found | None
    before: Shape = field(compare=False)
    stages: tuple[Stage, ...] = field(compare=False, repr=False)

    @cached_property
    def words(self) -> str:
        return self.step.words(self.before, self.found)


@dataclass(frozen=True)
class Chain:
    """What stands between a source of some shape and the signal that is levelled. Raises as its steps do."""

    before: Shape
    done: tuple[Done, ...] = ()

    def then(self, step: Step, found: Found | None = None) -> "Chain":
        """One step more."""
        stages = step.stages(self.shape, found)
        after = replace(self, done=(*self.done, Done(step, found, self.shape, stages)))
        if after.shape.frames < 1:
            raise EmptyError(f"Nothing is left of it once it is {step.doing}.")
        return after

    @cached_property
    def stages(self) -> tuple[Stage, ...]:
        return tuple(stage for each in self.done for stage in each.stages)

    @property
    def shape(self) -> Shape:
        """Of what results."""
        return self.stages[-1].after if self.stages else self.before

    @cached_property
    def timeline(self) -> Timeline:
        timeline = Timeline()
        for stage in self.stages:
            timeline = timeline.then(stage.timeline)
        return timeline

    @property
    def is_nothing(self) -> bool:
        """Whether the source stays what it is."""
        return not self.stages

    @property
    def recipe(self) -> Recipe:
        return tuple(each.step for each in self.done)

    @property
    def programme(self) -> "Chain":
        """The same without the choice of channels at its end: what is made once for all who choose from it."""
        done = self.done
        while done and done[-1].stages and all(stage.is_selection for stage in done[-1].stages):
            done = done[:-1]
        return replace(self, done=done)

    @property
    def words(self) -> tuple[str, ...]:
        """What was done here, a sentence for each step that changed something."""
        return tuple(filter(None, (each.words for each in self.done if each.stages)))

    def on(self, signal: Signal) -> Signal:
        """What comes of a signal of this shape."""
        made, coding = self.unrounded_on(signal), self.coding_after(signal.coding)
        return OnGrid(made) if coding == HELD else made

    def unrounded_on(self, signal: Signal) -> Signal:
        """The same before it is put on the grid: what steps listen to."""
        for stage in self.stages:
            signal = stage.on(signal)
        return signal

    def coding_after(self, coding: Coding) -> Coding:
        """How what comes of a signal is kept: whole numbers that went through a filter are on the grid."""
        is_exact = all(stage.is_exact for stage in self.stages)
        return HELD if coding.is_whole and not is_exact else DOUBLE

    def rest_on(self, signal: Signal) -> Signal:
        """What comes of the `programme`, made already: the choice of channels."""
        for stage in self.stages[len(self.programme.stages) :]:
            signal = stage.on(signal)
        return signal

    def digest_of(self, source_digest: str) -> str:
        """The name of what comes of a source with this digest; an untouched one keeps its own.

        What a step finds follows from the source and the steps before it, so it is no part of the name.
        """
        return source_digest if self.is_nothing else recipe_digest(source_digest, self.recipe)


def resolve(before: Shape, recipe: Sequence[Step], found_of: FoundOf | None = None) -> Chain:
    """A recipe for a source of some shape.

    found_of: what gives what steps find; None where none of them has to listen. Raises UnsupportedError or
    EmptyError where a step cannot be done, and what `found_of` raises.
    """
    chain = Chain(before)
    for step in recipe:
        found = found_of(chain, step) if step.listens and found_of else None
        chain = chain.then(step, found)
    return chain


def recipe_digest(source_digest: str, recipe: Sequence[Step]) -> str:
    """The name of what a recipe makes of a source with this digest."""
    steps = [[step.model_dump(mode="json"), step.version] for step in recipe]
    return hashlib.sha256(f"{source_digest}|{json.dumps(steps, sort_keys=True)}".encode()).hexdigest()


def with_recipe(source: Source, chain: Chain) -> Source:
    """A source to which the steps of a chain are done before anything else; what its file is stays said."""
    shape = chain.shape
    return replace(
        source, layout=shape.layout, sample_rate_hz=shape.rate_hz, frames=shape.frames, recipe=chain.recipe
    )


def described(source: Source, chain: Chain) -> Source:
    """A source as it is after a chain: floating point, its layout, rate and exact length."""
    if chain.is_nothing:
        return source
    shape = chain.shape
    return replace(
        source,
        size_bytes=None,
        encoding="float_64",
        bits_declared=None,
        bitrate_kbps=None,
        layout=shape.layout,
        sample_rate_hz=shape.rate_hz,
        frames=shape.frames,
    )
