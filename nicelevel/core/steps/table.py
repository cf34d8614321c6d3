"""Every step there is, by the word that a recipe calls it by."""

from collections.abc import Sequence
from functools import cache
from typing import Annotated, Any, Union

from pydantic import Field, TypeAdapter

from .chain import Recipe
from .fade import Fade
from .fold import Fold
from .gain import Gain
from .keep import Keep
from .length import Length
from .rate import Rate
from .silence import Silence
from .step import Step
from .trim import Trim

STEPS: dict[str, type[Step]] = {
    "gain": Gain,
    "trim": Trim,
    "silence": Silence,
    "fade": Fade,
    "fold": Fold,
    "rate": Rate,
    "length": Length,
    "keep": Keep,
}


@cache
def _adapter() -> TypeAdapter[Any]:
    any_step: Any = Annotated[Union[tuple(STEPS.values())], Field(discriminator="do")]  # noqa: UP007
    return TypeAdapter(tuple[any_step, ...])


def recipe_to_json(recipe: Sequence[Step]) -> list[dict[str, Any]]:
    """As it is kept."""
    return [step.model_dump(mode="json") for step in recipe]


def recipe_from_json(stored: Sequence[dict[str, Any]]) -> Recipe:
    """What was kept. Raises pydantic's ValidationError where it is none."""
    recipe: Recipe = _adapter().validate_python(stored, strict=False)
    return recipe
