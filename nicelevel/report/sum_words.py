"""Whether stems add up to their mix, in a sentence and as a line over time."""

from collections.abc import Sequence
from typing import Any

from nicelevel.core.plan.sum_check import SumCheck
from nicelevel.core.programmes.adding_up import places_off
from nicelevel.core.words import change, figure, listed

from .words import length


def sum_json(found: SumCheck, titles: Sequence[str]) -> dict[str, Any]:
    """What is kept and shown of a sum check; titles: of the stems, in their order."""
    return {
        "adds_up": found.adds_up,
        "sentence": sum_sentence(found, titles),
        "residual_db": _thinned(found.series_db),
    }


MOST_POINTS, LOWEST_DB, HIGHEST_DB = 280, -80.0, 6.0


def _thinned(series_db: Sequence[float]) -> list[float]:
    """The highest of each few steps, held within what is drawn."""
    step = max(1, -(-len(series_db) // MOST_POINTS))
    highest = (max(series_db[at : at + step]) for at in range(0, len(series_db), step))
    return [round(min(max(level, LOWEST_DB), HIGHEST_DB), 1) for level in highest]


def draw_residual(residual_db: Sequence[float], left: int, width: int, height: int) -> str:
    """A line of what is left over, against the mix: LOWEST_DB at the foot of a field of so many pixels."""
    points = (
        f"{left + width * (at + 0.5) / len(residual_db):.1f} "
        f"{height * (HIGHEST_DB - level_db) / (HIGHEST_DB - LOWEST_DB):.1f}"
        for at, level_db in enumerate(residual_db)
    )
    return "M" + "L".join(points)


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


def addition_sentence(found: SumCheck, mix: str, parts: Sequence[str]) -> str:
    """Whether programmes of one file add up to its mix, and where they do not."""
    names = listed(parts)
    if found.adds_up:
        left = f" but for {figure(found.residual_db)} dB" if found.residual_db > -200.0 else " exactly"
        return f"{names} add up to {mix}{left}."
    what = sum_sentence(found, parts).removeprefix("The stems do not add up to the mix: ")
    places = places_off(found)
    where = f" It is off from {length(places[0][0])} to {length(places[0][1])}" if places else ""
    more = (
        f", and in {len(places) - 1} more places" if len(places) > 2 else ", and once more" if len(places) > 1 else ""
    )
    return f"{names} do not add up to {mix}: {what}{where}{more}{'.' if where else ''}"


def _moved(seconds: float | None) -> str:
    amount = abs(seconds or 0.0) * 1000
    return f"{figure(amount, 2 if amount < 1 else 1)} ms {'later' if (seconds or 0.0) > 0 else 'earlier'}"
