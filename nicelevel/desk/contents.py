"""What is worked on: some audio, the steps that are done to it before all else, and whose sound these go by."""

import json
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import lru_cache
from typing import Any

from nicelevel.core.errors import NotPreparedError
from nicelevel.core.specs import Spec
from nicelevel.core.steps import Chain, Found, FoundOf, Recipe, Step, recipe_from_json, resolve
from nicelevel.core.steps.chain import recipe_digest, with_recipe
from nicelevel.core.steps.speech import Speech
from nicelevel.core.values import Source as Described
from nicelevel.store.audio import AudioFolder
from nicelevel.store.found import found_of
from nicelevel.store.models import Source
from nicelevel.store.readings import has_figures, load_figures

OFF = "off"
"""The mark of a step that is kept and not done."""


@dataclass(frozen=True)
class Contents:
    """heard_in: digest of the leader of a sum, whose parts take what steps find in it, or they stop adding up."""

    digest: str
    recipe: Recipe = ()
    heard_in: str | None = None

    def then(self, spec: Spec) -> "Contents":
        """With the steps that a spec wants of every file."""
        return Contents(self.digest, (*self.recipe, *spec.steps), self.heard_in)

    def name_of(self, recipe: Sequence[Step]) -> str:
        """What is called what these steps make of the audio."""
        takes = self.heard_in and any(step.listens and not step.adds_up for step in recipe)
        return recipe_digest(f"{self.digest} as {self.heard_in}" if takes else self.digest, recipe)

    def name_of_chain(self, chain: Chain) -> str:
        """The same of steps that are resolved: what changes nothing has the name of the audio."""
        if chain.is_nothing:
            return self.digest
        # What only listens makes nothing else of it.
        return self.name_of([step for step in chain.recipe if not isinstance(step, Speech)])

    def found_by(self, found_in: Callable[[str], FoundOf]) -> FoundOf:
        """What steps find. found_in: gives what was, or is, found in the audio with a digest."""
        own, others = found_in(self.digest), found_in(self.heard_in) if self.heard_in else None

        def find(chain: Chain, step: Step) -> Found:
            return (own if others is None or step.adds_up else others)(chain, step)

        return find

    def resolved(self, recipe: Recipe, audio: AudioFolder) -> Chain:
        """Steps for this audio, by what was found before. Raises NotPreparedError where it is not measured yet, or
        somebody has to listen first, and as steps do.
        """
        if not has_figures(self.digest, audio):
            raise NotPreparedError("It is being measured; its plan follows.")
        return resolve(load_figures(self.digest, audio).source.shape, recipe, self.found_by(found_of))


def contents_of(source: Source) -> Contents:
    """A source as it stands in its job: parts of a sum have the recipe of their leader."""
    leader = sum_leader_of(source)
    recipe = _recipe((leader or source).recipe_json)
    return Contents(source.digest, recipe, leader.digest if leader else None)


def sum_leader_of(source: Source) -> Source | None:
    """The leader of the sum that a source is a part of; None where it is in none, or leads it."""
    leader: Source | None = source.leader if source.leader_id is not None else None
    return leader if leader is not None and leader.set_kind != "album" else None


def recipe_of(source: Source) -> Recipe:
    """The steps of a source's own recipe."""
    return _recipe(source.recipe_json)


@lru_cache(maxsize=1024)
def _recipe(stored: str | None) -> Recipe:
    told = json.loads(stored) if stored else []
    return recipe_from_json([_without_mark(each) for each in told if not each.get(OFF)])


def steps_with_off(source: Source) -> list[tuple[Step, bool]]:
    """The steps of a source's own recipe, also those that are off; of each whether it is."""
    told = json.loads(source.recipe_json) if source.recipe_json else []
    steps = recipe_from_json([_without_mark(each) for each in told])
    return list(zip(steps, (bool(each.get(OFF)) for each in told), strict=True))


def _without_mark(told: dict[str, Any]) -> dict[str, Any]:
    return {key: value for key, value in told.items() if key != OFF}


@lru_cache(maxsize=4096)
def described_of(contents: Contents, audio: AudioFolder) -> Described:
    """The audio as its file describes it, after its steps. Raises as `Contents.resolved`."""
    chain = contents.resolved(contents.recipe, audio)
    return with_recipe(load_figures(contents.digest, audio).source, chain)
