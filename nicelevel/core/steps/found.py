"""Steps that must listen first."""

from collections.abc import Callable
from typing import TYPE_CHECKING

from ..files.read import take_in
from .step import Found, Step

if TYPE_CHECKING:
    from pathlib import Path

    from .chain import Chain

FoundOf = Callable[["Chain", Step], Found]
"""Gives what a step finds in what a chain makes. Raises NotPreparedError where nobody has listened yet."""


def listen(path: "Path") -> FoundOf:
    """What steps find in a file, by listening to it now."""

    def find(chain: "Chain", step: Step) -> Found:
        with take_in(path) as audio:
            return step.find(chain.on(audio))

    return find
