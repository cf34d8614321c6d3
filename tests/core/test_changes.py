"""What changed from one version of a title to the next, told from their curves."""

import numpy as np
import pytest

from nicelevel.core.hear.changes import changes_between
from tests import signals
from tests.core.measuring import meter_signal

BEFORE = signals.programme(40, seed=8)


def _changes(after):
    return changes_between(meter_signal(BEFORE), meter_signal(after))


def test_louder_alone():
    found = _changes(BEFORE * 10 ** (1.5 / 20))
    assert found.louder_lu == pytest.approx(1.5, abs=0.01)
    assert found.gain_db == pytest.approx(1.5, abs=0.01)
    assert (found.places, found.inserted_s, found.longer_s) == ((), None, 0.0)


def test_another_passage_is_found_where_it_is_under_another_gain():
    after = BEFORE * 10 ** (-2.0 / 20)
    after[12 * 48_000 : 20 * 48_000] *= 10 ** (1.0 / 20)
    found = _changes(after)
    assert found.gain_db == pytest.approx(-2.0, abs=0.01)
    assert found.places == ((12.0, 20.0),)


@pytest.mark.parametrize("by_s", [3.2, -3.2])
def test_time_put_in_or_taken_out_is_found_where_it_is(by_s):
    at = 15 * 48_000
    more = signals.noise(3.2, -20, seed=1)
    after = (
        np.concatenate([BEFORE[:at], more, BEFORE[at:]])
        if by_s > 0
        else np.delete(BEFORE, slice(at, at + 153_600), 0)
    )
    found = _changes(after)
    assert found.longer_s == pytest.approx(by_s)
    assert found.inserted_s == pytest.approx(15.0, abs=1.0)
    assert found.places == ()


def test_another_end_of_another_length():
    after = np.concatenate([BEFORE[: 30 * 48_000], signals.programme(13.5, seed=99)])
    found = _changes(after)
    assert found.inserted_s is None
    ((first, last),) = found.places
    assert first == pytest.approx(30.0, abs=0.5)
    assert last == pytest.approx(43.5)


def test_silence_and_noise_under_everything_are_not_compared():
    after = BEFORE + signals.noise(40, -85, seed=3)
    assert _changes(after).places == ()
    assert changes_between(meter_signal(np.zeros((96_000, 2))), meter_signal(np.zeros((96_000, 2)))).places == ()
