"""Letting go of what is remembered of many, where several threads do so at once."""

from contextlib import suppress
from typing import Any


def let_go(remembered: dict[Any, Any], most: int) -> None:
    """Keep so many, those that were put in last."""
    while len(remembered) > most:
        with suppress(KeyError, StopIteration, RuntimeError):  # another thread was quicker
            del remembered[next(iter(remembered))]
