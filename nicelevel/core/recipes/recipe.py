"""A recipe's file: its name, and its steps in order.

Anything unknown, of a wrong type or out of sense makes it broken: SpecError names the step, the key and the reason.
"""

from typing import Annotated

from pydantic import BaseModel, ConfigDict, Field, ValidationError

from ..errors import SpecError
from ..specs import Spec
from ..specs.spec import MOST_SOFT_DB
from ..steps.table import AskedSteps, problem_of
from ..toml import parse_toml


class About(BaseModel):
    model_config = ConfigDict(extra="forbid", frozen=True, strict=True)

    name: Annotated[str, Field(min_length=1, max_length=80)]


class _Limiter(BaseModel):
    """soft_db: a destination's limiter begins so far under its ceiling."""

    model_config = ConfigDict(extra="forbid", frozen=True, strict=True)

    soft_db: Annotated[float, Field(ge=0.0, le=MOST_SOFT_DB, allow_inf_nan=False)] = 0.0


class NamedRecipe(BaseModel):
    """slug: the file's name, and no key of the file.

    limiter: what is wished of a destination's limiter, where its spec allows one and wishes nothing.
    """

    model_config = ConfigDict(extra="forbid", frozen=True, strict=True)

    slug: str = ""
    recipe: About
    steps: AskedSteps = ()
    limiter: _Limiter = _Limiter()

    @property
    def name(self) -> str:
        return self.recipe.name

    def on(self, spec: Spec) -> Spec:
        """A spec with what is wished of its limiter."""
        return softened(spec, self.limiter.soft_db)


def softened(spec: Spec, soft_db: float) -> Spec:
    """A spec whose limiter begins so far under its ceiling, where it wishes nothing itself."""
    if not soft_db or spec.method.soft_db:
        return spec
    return spec.model_copy(update={"method": spec.method.model_copy(update={"soft_db": soft_db})})


def parse_recipe(toml_text: str, slug: str) -> NamedRecipe:
    """Read a recipe from its TOML text. Raises SpecError naming the step, the key and the reason on one line."""
    tables = parse_toml(toml_text, slug)
    if "slug" in tables:
        raise SpecError(f"{slug}: slug: no such key; the file's name is the slug")
    try:
        return NamedRecipe.model_validate({**tables, "slug": slug})
    except ValidationError as error:
        key, reason = problem_of(error)
        raise SpecError(f"{slug}: {key}: {reason}", key) from error
