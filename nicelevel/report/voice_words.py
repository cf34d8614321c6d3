"""A voice recording's way in plain words: how far it is, and what was done to it."""

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from nicelevel.core.specs.format_words import encoding_word
from nicelevel.core.values import Plan
from nicelevel.core.words import amount

from .words import level

NAMES = ("taken in", "listened to", "evened out", "levelled and coded", "checked")


@dataclass(frozen=True)
class Step:
    """One of the steps of the way. state: done, now or ahead; ratio: how much of what goes on now is done."""

    name: str
    state: str
    ratio: float = 0.0


def steps_of(
    source: Any, plan: Plan | None, problem: str | None, deliverables: Sequence[Any]
) -> tuple[tuple[Step, ...], str]:
    """How far a recording is, and why it went no further, empty where it goes on.

    source, deliverables: rows with `state`, `progress_ratio`, `error_message`; problem: why there is no plan, and
    will be none.
    """
    made = deliverables[0] if deliverables else None
    if source.state != "measured":
        return _at(1, source.progress_ratio), source.error_message or "" if source.state == "failed" else ""
    if made is None:
        if plan is not None and plan.action == "cannot_meet":
            return _at(3), " ".join(plan.reasons)
        return _at(2 if plan is None else 3), problem or ""
    if made.state in ("queued", "rendering"):
        return _at(3, made.progress_ratio), ""
    if made.state in ("failed", "stopped"):
        return _at(3), made.error_message or "It was stopped."
    return _at(len(NAMES)), ""


def _at(now: int, ratio: float = 0.0) -> tuple[Step, ...]:
    return tuple(
        Step(name, "done" if number < now else "now" if number == now else "ahead", ratio if number == now else 0.0)
        for number, name in enumerate(NAMES)
    )


def done_line(plan: dict[str, Any], measured: dict[str, Any]) -> str:
    """What was done, in one sentence. plan, measured: as they are kept of a deliverable."""
    gain_db, lufs = plan["gain_db"], measured["integrated_lufs"]
    way = "up" if gain_db > 0 else "down"
    turned = f"Turned {way} by {amount(round(abs(gain_db), 1))} dB" if abs(gain_db) >= 0.05 else "Left at its level"
    # What follows from the format alone, another rate, is for those who ask for figures.
    prepared = (each.rstrip(".").partition("; ")[0] for each in plan.get("prepared", ()) if "resampled" not in each)
    done = [*prepared, turned]
    first = ", ".join((done[0], *(f"{each[0].lower()}{each[1:]}" for each in done[1:])))
    return (
        f"{first} to {level(lufs)} LUFS, coded as {encoding_word(measured['encoding'])}, then read back and checked."
    )
