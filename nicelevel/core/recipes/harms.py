"""Where steps harm each other in the order that they stand in: a sentence for each pair, with a way out."""

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from typing import Any

from ..steps import Step

SAME_DB, PEAKS_OVER_LEVEL_DB = 1.0, 10.0


@dataclass(frozen=True)
class Harm:
    """The step at `later` undoes or mistakes what the one at `earlier` did; both by number, from 0; why: in words."""

    earlier: int
    later: int
    why: str

    @property
    def sentence(self) -> str:
        return f"Step {self.later + 1} after step {self.earlier + 1}: {self.why}."


@dataclass(frozen=True)
class _Rule:
    earlier: str
    later: str
    sentence: str
    harms: Callable[[Any, Any], bool] = lambda earlier, later: True


def _fades_what_is_trimmed(fade: Any, trim: Any) -> bool:
    ends = {
        "head": fade.in_s,
        "tail": fade.out_s,
        "both": fade.in_s or fade.out_s,
        "everywhere": fade.in_s or fade.out_s,
    }
    return bool(ends.get(trim.where, 0.0))


def _gate_makes_pauses(gate: Any, pauses: Any) -> bool:
    """By the same threshold, or where what reached it falls under it: peaks stand about 10 dB over their level."""
    is_same = abs(gate.below_db - pauses.below_db) < SAME_DB
    peaks_db = gate.below_db + PEAKS_OVER_LEVEL_DB
    falls_under = peaks_db - gate.reduce_db < pauses.below_db < peaks_db
    return bool(gate.reduce_db and (is_same or falls_under))


def _silence_is_taken(silence: Any, taking: Any) -> bool:
    ends = {"head": silence.head_s, "tail": silence.tail_s}
    return bool(ends.get(taking.where, max(ends.values()) if taking.where != "inside" else 0.0))


def _is_a_pause(silence: Any, pauses: Any) -> bool:
    return _silence_is_taken(silence, pauses) and max(silence.head_s, silence.tail_s) >= pauses.longer_than_s


def _has_head(earlier: Any, later: Any) -> bool:
    return bool(getattr(earlier, "head_s", 0.0) or getattr(earlier, "in_s", 0.0))


_FADE_FIRST = "the fade comes before the {later}, which then takes its quiet part away: {later} first, then fade"
_LENGTH_FIRST = "the exact length is set before the {later} changes it: put the exact length last"
_SILENCE_FIRST = "the silence that is put in is taken out again by the {later}: put it in afterwards"

_RULES = (
    _Rule(
        "gate",
        "pauses",
        "the gate turns down what the pauses are then found by, so more is taken for a pause: shorten pauses first",
        _gate_makes_pauses,
    ),
    _Rule("fade", "trim", _FADE_FIRST.format(later="trim"), _fades_what_is_trimmed),
    _Rule("fade", "pauses", _FADE_FIRST.format(later="shortening of pauses"), _fades_what_is_trimmed),
    _Rule("fade", "cut", _FADE_FIRST.format(later="cut")),
    _Rule("fade", "length", _FADE_FIRST.format(later="exact length"), lambda fade, _: bool(fade.out_s)),
    _Rule("silence", "trim", _SILENCE_FIRST.format(later="trim"), _silence_is_taken),
    _Rule("silence", "pauses", _SILENCE_FIRST.format(later="shortening of pauses"), _is_a_pause),
    *(_Rule("length", later, _LENGTH_FIRST.format(later=later)) for later in ("trim", "silence", "cut")),
    _Rule("length", "pauses", _LENGTH_FIRST.format(later="shortening of pauses")),
    _Rule(
        "silence", "tick", "the tick is looked for at the head, where silence was put in: mend it first", _has_head
    ),
    _Rule("fade", "tick", "the fade softens the tick before it is looked for: mend it first", _has_head),
)


def harms_of(steps: Sequence[Step]) -> Iterator[Harm]:
    """Every pair of steps that harm each other, in the order of the later one."""
    for later, step in enumerate(steps):
        for earlier, before in enumerate(steps[:later]):
            for rule in _RULES:
                if (rule.earlier, rule.later) == (before.do, step.do) and rule.harms(before, step):
                    yield Harm(earlier, later, rule.sentence)
