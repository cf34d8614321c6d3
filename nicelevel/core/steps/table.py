"""Every step there is, by the word that a recipe calls it by."""

from collections.abc import Sequence
from functools import cache
from typing import Annotated, Any, Union

from pydantic import Field, TypeAdapter

from .chain import Recipe
from .compress import Compress
from .cut import Cut
from .dc import Dc
from .delay import Delay
from .fade import Fade
from .flip import Flip
from .fold import Fold
from .gain import Gain
from .gate import Gate
from .high_pass import HighPass
from .keep import Keep
from .length import Length
from .mix import Mix
from .pauses import Pauses
from .rate import Rate
from .silence import Silence
from .step import Step
from .tick import Tick
from .trim import Trim

STEPS: dict[str, type[Step]] = {
    "gain": Gain,
    "cut": Cut,
    "trim": Trim,
    "silence": Silence,
    "length": Length,
    "pauses": Pauses,
    "fade": Fade,
    "tick": Tick,
    "dc": Dc,
    "high_pass": HighPass,
    "gate": Gate,
    "compress": Compress,
    "keep": Keep,
    "flip": Flip,
    "delay": Delay,
    "mix": Mix,
    "fold": Fold,
    "rate": Rate,
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
