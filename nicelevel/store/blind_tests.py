"""Blind comparisons of a job. What is hidden in a trial is drawn here and told to nobody before the answer."""

import secrets
from collections.abc import Sequence
from typing import Any

from nicelevel.core.hear import Score, score

from .database import database
from .models import BlindTest, Job, Source

SIDES = ("one", "other")


def begin_blind_test(
    source: Source, keys: tuple[str, str], names: tuple[str, str], gains_db: tuple[float, float]
) -> BlindTest:
    """A test of two takes, with the gains they are heard at; its first trial waits for an answer."""
    return BlindTest.create(
        source=source.id,
        one=keys[0],
        other=keys[1],
        one_name=names[0],
        other_name=names[1],
        gains_db=list(gains_db),
        trials=[_drawn()],
    )


def _drawn() -> dict[str, Any]:
    return {"hidden": secrets.choice(SIDES), "said": None}


def find_blind_test(test_id: int) -> BlindTest | None:
    query = BlindTest.select(BlindTest, Source, Job).join(Source).join(Job)
    found: BlindTest | None = query.where(BlindTest.id == test_id).first()
    return found


def blind_tests_of(source_id: int) -> list[BlindTest]:
    """Tests of a source that have an answer, the latest first."""
    query = BlindTest.select().where(BlindTest.source == source_id).order_by(BlindTest.id.desc())
    return [each for each in query if answers_of(each)]


def answer_blind_test(test_id: int, trial: int, said: str) -> BlindTest:
    """Keep the answer of a trial and draw the next. A trial that is answered keeps its answer."""
    with database.atomic():
        test = BlindTest.select().where(BlindTest.id == test_id).for_update().get()
        if trial == len(test.trials) - 1 and test.trials[trial]["said"] is None and said in SIDES:
            test.trials = [*test.trials[:trial], {**test.trials[trial], "said": said}, _drawn()]
            test.save(only=[BlindTest.trials])
        return test


def hidden_in(test: BlindTest, trial: int) -> tuple[str, float] | None:
    """The key of what a trial hides and its gain; None where there is no such trial."""
    if not 0 <= trial < len(test.trials):
        return None
    at = SIDES.index(test.trials[trial]["hidden"])
    return (test.one, test.other)[at], float(test.gains_db[at])


def answers_of(test: BlindTest) -> Sequence[bool]:
    """Whether each answer was right."""
    return [each["said"] == each["hidden"] for each in test.trials if each["said"] is not None]


def score_of(test: BlindTest) -> Score:
    return score(answers_of(test))
