"""What tells one plan from another: two plans with one digest write the same file of one source."""

import hashlib
import json
from collections.abc import Sequence
from dataclasses import asdict
from typing import Any

from ..steps import Step
from ..values import OutputFormat, Plan

LEVEL_DIGITS = 3
"""Levels count to a thousandth of a dB: less is a matter of the order in which sums are made."""


def plan_digest(plan: Plan, source_digest: str, leader_digest: str | None = None) -> str:
    """The digest of what is done to a source with these contents: steps and what they found, gain, limiter, output.

    leader_digest: of the source whose limiter's curve is taken, where it is another one.
    """
    done = {
        "source": source_digest,
        "steps": [[*_step(each.step), each.found and each.found.model_dump(mode="json")] for each in plan.chain.done],
        "gain_db": _level(plan.gain_db),
        "limiter": _limiter(plan),
        "curve_of": None if plan.curve_of is None else [leader_digest, _steps(plan.curve_of)],
        "output": _output(plan.output, plan.dithers),
    }
    return hashlib.sha256(json.dumps(done, sort_keys=True).encode()).hexdigest()


def _limiter(plan: Plan) -> dict[str, Any] | None:
    if plan.limiting is None:
        return None
    settings = asdict(plan.limiting.limiter)
    return {name: _level(value) if name.endswith("_db") else value for name, value in settings.items()}


def _output(output: OutputFormat, dithers: bool) -> dict[str, Any]:
    # The words of the spec are no part of it: another wording of the same format writes the same file.
    described = asdict(output) | {"format_key": None, "dither": output.dither if dithers else "none"}
    # What is left open is left out: a format that learns to say more keeps its digests.
    return {name: value for name, value in described.items() if value is not None}


def _steps(steps: Sequence[Step]) -> list[Any]:
    return [_step(step) for step in steps]


def _step(step: Step) -> list[Any]:
    return [step.model_dump(mode="json", exclude_none=True), step.version]


def _level(level_db: float) -> float:
    # No minus zero: it would be another text.
    return round(level_db, LEVEL_DIGITS) + 0.0
