"""A running Nice Level of its own for each module, and hands on it."""

import pytest

from tests.faults.hands import FEED, Hands


@pytest.fixture(scope="module")
def hands(live) -> Hands:
    made = Hands(live)
    made.keep_spec(FEED)
    return made
