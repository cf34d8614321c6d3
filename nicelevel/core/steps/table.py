"""Every step there is, by the word that a recipe calls it by."""

from collections.abc import Sequence
from functools import cache
from typing import TYPE_CHECKING, Annotated, Any, Union

from pydantic import Field, TypeAdapter, ValidationError

from .chain import Recipe
from .compress import Compress
from .cut import Cut
from .dc import Dc
from .delay import Delay
from .even import Even
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
from .speech import Speech
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
    "even": Even,
    "keep": Keep,
    "flip": Flip,
    "delay": Delay,
    "mix": Mix,
    "fold": Fold,
    "rate": Rate,
    "speech": Speech,
}


MOST_STEPS = 64
OF_SPECS = ("rate", "speech")
"""Steps that follow from what a spec asks for; nobody asks for them by name."""

_ASKED: Any = Union[tuple(kind for do, kind in STEPS.items() if do not in OF_SPECS)]  # noqa: UP007

if TYPE_CHECKING:
    AskedSteps = tuple[Step, ...]
else:
    AskedSteps = Annotated[
        tuple[Annotated[_ASKED, Field(discriminator="do")], ...], Field(max_length=MOST_STEPS, strict=False)
    ]
"""Steps that a person may ask for, in a recipe's file or a spec's."""


def problem_of(error: ValidationError) -> tuple[str, str]:
    """Key and reason of what is wrong first in steps, or in what holds them, counted as people count."""
    problem = sorted(error.errors(), key=lambda each: each["type"] != "extra_forbidden")[0]
    path = [str(part) for part in problem["loc"]]
    if path[0] == "steps" and len(path) > 1 and path[1].isdigit():
        # The kind of the step stands in the path too, and of a key that may be of several kinds the kind tried.
        keys = [part for part in path[3:] if part.isidentifier() and part not in ("float", "int", "str")]
        path = [f"step {int(path[1]) + 1}", *keys[:1]]
    text = _REASONS.get(problem["type"]) or problem["msg"].removeprefix("Value error, ").replace("\n", " ")
    if problem["type"] == "union_tag_invalid":
        text = (
            f"no such step: {problem['ctx']['tag']}; there are {', '.join(do for do in STEPS if do not in OF_SPECS)}"
        )
    named, colon, rest = text.partition(": ")
    is_named = colon and named.isidentifier() and problem["type"] == "value_error"
    return (", ".join((*path, named)), rest) if is_named else (", ".join(path), text)


_REASONS = {"extra_forbidden": "no such key", "missing": "is missing", "union_tag_not_found": "do is missing"}


@cache
def _adapter() -> TypeAdapter[Any]:
    any_step: Any = Annotated[Union[tuple(STEPS.values())], Field(discriminator="do")]  # noqa: UP007
    return TypeAdapter(tuple[any_step, ...])


def recipe_to_json(recipe: Sequence[Step]) -> list[dict[str, Any]]:
    """As it is kept."""
    return [step.model_dump(mode="json") for step in recipe]


def steps_to_tables(recipe: Sequence[Step]) -> list[dict[str, Any]]:
    """As the tables of a TOML file: what is left at its default left out."""
    return [
        {"do": step.do, **step.model_dump(mode="json", exclude_defaults=True, exclude_none=True)} for step in recipe
    ]


def recipe_from_json(stored: Sequence[dict[str, Any]]) -> Recipe:
    """What was kept. Raises pydantic's ValidationError where it is none."""
    recipe: Recipe = _adapter().validate_python(stored, strict=False)
    return recipe
