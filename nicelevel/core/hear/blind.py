"""A blind comparison: how likely a number of right answers is where nothing is heard."""

import math
from collections.abc import Sequence
from dataclasses import dataclass

FEWEST_TRIALS = 10
"""With fewer even a clean sweep says little."""

PERSUADES = 0.05
"""A result that guessing reaches less often than one time in twenty: common practice."""


@dataclass(frozen=True)
class Score:
    """probability: of so many right answers or more by guessing alone; is_enough: whether a verdict may be given."""

    trials: int
    right: int
    probability: float
    is_enough: bool
    is_heard: bool


def score(answers: Sequence[bool]) -> Score:
    """The score of some answers, each right or wrong, where a guess is right half of the time.

    The upper tail of the binomial distribution: the sum of C(n, k) / 2^n from the number of right ones on.
    """
    trials, right = len(answers), sum(answers)
    probability = sum(math.comb(trials, k) for k in range(right, trials + 1)) / 2**trials
    is_enough = trials >= FEWEST_TRIALS
    return Score(trials, right, probability, is_enough, is_enough and probability < PERSUADES)
