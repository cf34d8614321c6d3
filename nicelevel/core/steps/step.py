"""What every step can be asked for, and the kinds of what is typed."""

import math
from typing import Annotated, Any, ClassVar

from pydantic import BaseModel, ConfigDict, Field

from ..signals import Signal
from ..stages import Stage
from ..values import Shape
from .hops import Hops

Seconds = Annotated[float, Field(ge=0.0, le=86_400.0, allow_inf_nan=False)]
Milliseconds = Annotated[float, Field(ge=0.0, le=60_000.0, allow_inf_nan=False)]
LevelDb = Annotated[float, Field(ge=-200.0, le=0.0, allow_inf_nan=False)]
GainDb = Annotated[float, Field(ge=-200.0, le=200.0, allow_inf_nan=False)]


class Found(BaseModel):
    """What a step heard in what comes before it: kept with the step, never changed."""

    model_config = ConfigDict(frozen=True)


class Step(BaseModel):
    """A wish, as it was chosen. A frozen value; its keys are those of the recipe's table.

    finds: what it must know of the audio before it can be done; None where the header is enough. adds_up: what it
    finds in parts of a sum adds up to what it finds in the sum. version: raised whenever the same wish comes to
    something else.
    """

    model_config = ConfigDict(frozen=True, extra="forbid", strict=True)

    do: str
    version: ClassVar[int] = 1
    finds: ClassVar[type[Found] | None] = None
    adds_up: ClassVar[bool] = False

    @property
    def listens(self) -> bool:
        """Whether it must listen before it can be done."""
        return self.finds is not None

    def find(self, before: Signal) -> Found:
        """Listen to what comes before, once. Only of a step that `listens`."""
        raise NotImplementedError

    def guess(self, hops: Hops) -> Found | None:
        """About what it will find, told from every 10 ms alone, for drawing at once; None where it cannot be told."""
        return None

    def stages(self, before: Shape, found: Found | None) -> tuple[Stage, ...]:
        """What is done, to the frame. Raises UnsupportedError or EmptyError where that cannot be done here."""
        raise NotImplementedError

    @property
    def doing(self) -> str:
        """What is being done, as the end of a sentence: "folded down to stereo"."""
        raise NotImplementedError

    @property
    def wish(self) -> str:
        """A sentence of what is asked for."""
        raise NotImplementedError

    def words(self, before: Shape, found: Found | None) -> str:
        """A sentence of what was done here; empty where nothing is said of it."""
        raise NotImplementedError

    def figures(self, before: Shape, found: Found | None) -> dict[str, Any]:
        """What it did here in figures, by the keys of the contract, for programs."""
        return {}


def frames_of(seconds: float, rate_hz: int) -> int:
    """A length in frames; halves round up."""
    return math.floor(seconds * rate_hz + 0.5)
