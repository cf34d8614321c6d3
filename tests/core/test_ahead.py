"""Working ahead in a thread: same blocks, same errors, nothing left running."""

import threading

import pytest

from nicelevel.core.ahead import DEPTH, ahead, beside


def test_blocks_come_in_their_order():
    with ahead(iter(range(100))) as blocks:
        assert list(blocks) == list(range(100))


def test_an_error_of_the_maker_comes_where_its_block_would_have():
    def make():
        yield 1
        raise ValueError("broken")

    taken = []
    with pytest.raises(ValueError, match="broken"), ahead(make()) as blocks:
        taken.extend(blocks)
    with ahead(make()) as blocks:
        assert next(blocks) == 1


def test_the_maker_has_ended_when_the_user_stops_early():
    made = []

    def make():
        for number in range(1_000):
            made.append(number)
            yield number

    before = threading.active_count()
    with ahead(make()) as blocks:
        next(blocks)
    assert threading.active_count() == before
    assert len(made) <= DEPTH + 3


def test_no_more_blocks_wait_than_the_depth():
    made = []

    def make():
        for number in range(DEPTH * 4):
            made.append(number)
            yield number

    with ahead(make()) as blocks:
        next(blocks)
        threading.Event().wait(0.3)
        assert len(made) <= DEPTH + 3


def test_work_beside_gives_its_result_or_its_error():
    with beside(lambda: 7) as found:
        assert found.result() == 7
    with beside(lambda: 1 // 0) as found, pytest.raises(ZeroDivisionError):
        found.result()
