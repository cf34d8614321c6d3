"""Whether stems add up to their mix, in a sentence."""

from collections.abc import Sequence
from typing import Any

from nicelevel.core.plan.sum_check import SumCheck
from nicelevel.core.words import change, figure


def sum_json(found: SumCheck, titles: Sequence[str]) -> dict[str, Any]:
    """What is kept and shown of a sum check; titles: of the stems, in their order."""
    return {"adds_up": found.adds_up, "sentence": sum_sentence(found, titles)}


def sum_sentence(found: SumCheck, titles: Sequence[str]) -> str:
    """What was found, and in which stem."""
    residual = f"what is left over is {figure(found.residual_db)} dB against the mix"
    if found.adds_up:
        return "The stems add up to the mix" + (f": {residual}." if found.residual_db > -200.0 else " exactly.")
    if found.stem is None:
        return f"The stems do not add up to the mix: {residual}, and no single stem explains it."
    stem = titles[found.stem]
    said = {
        "missing": f"{stem} is missing in the mix",
        "doubled": f"{stem} is in the mix twice",
        "inverted": f"{stem} is in the mix with its polarity inverted",
        "shifted": f"the mix has {stem} {_moved(found.amount)}",
        "level": f"the mix has {stem} at {change(found.amount or 0.0)} dB",
    }[found.cause or "missing"]
    return f"The stems do not add up to the mix: {said} ({residual})."


def _moved(seconds: float | None) -> str:
    amount = abs(seconds or 0.0) * 1000
    return f"{figure(amount, 2 if amount < 1 else 1)} ms {'later' if (seconds or 0.0) > 0 else 'earlier'}"
