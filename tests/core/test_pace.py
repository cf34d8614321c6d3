"""How long work will take: from what such work took, and from how far it is."""

import pytest

from nicelevel.core.pace import LATEST, ToDo, Took, paces, time_left_s


def test_a_pace_is_the_median_of_the_latest_of_its_kind():
    latest = [Took("mp3", 100.0, 10.0 + number % 3) for number in range(LATEST)]
    old = [Took("mp3", 100.0, 900.0)] * 50
    wav = [Took("wav", 100.0, 1.0)]
    known = paces(latest + old + wav)
    assert known["mp3"] == pytest.approx(0.11)
    assert known["wav"] == pytest.approx(0.01)


def test_work_of_an_unknown_kind_is_told_by_all():
    known = paces([Took("wav", 100.0, 2.0)])
    assert time_left_s([ToDo("mp3", 50.0)], known, 1) == [pytest.approx(1.0)]


def test_two_at_once_share_the_queue():
    known = {None: 0.1}
    waiting = [ToDo("a", 100.0), ToDo("a", 20.0), ToDo("a", 30.0), ToDo("a", 60.0)]
    assert time_left_s(waiting, known, 2) == pytest.approx([10.0, 2.0, 5.0, 11.0])
    assert time_left_s(waiting, known, 1) == pytest.approx([10.0, 12.0, 15.0, 21.0])


def test_what_is_under_way_is_told_by_its_own_speed():
    assert time_left_s([ToDo("a", 100.0, 0.5, 8.0)], {None: 99.0}, 2) == [pytest.approx(8.0)]
    # Too early to tell: by the pace, less what it has taken already; never less than nothing.
    assert time_left_s([ToDo("a", 100.0, 0.1, 3.0)], {None: 0.1}, 2) == [pytest.approx(7.0)]
    assert time_left_s([ToDo("a", 100.0, 0.1, 30.0)], {None: 0.1}, 2) == [0.0]


def test_what_cannot_be_told_is_not_made_up():
    assert time_left_s([ToDo("a", 100.0), ToDo("a", 100.0)], {}, 2) == [None, None]
    under_way = [ToDo("a", 100.0, 0.5, 8.0), ToDo("a", 100.0), ToDo("a", 10.0, 0.5, 1.0)]
    assert time_left_s(under_way, {}, 2) == [pytest.approx(8.0), None, None]
    assert paces([Took("a", 0.0, 5.0)]) == {}


def test_a_machine_without_a_worker_still_gets_an_answer():
    assert time_left_s([ToDo("a", 10.0)], {None: 1.0}, 0) == [pytest.approx(10.0)]
