"""Working ahead in a thread: same blocks, same errors, nothing left running."""

import contextlib
import os
import threading

import pytest

from nicelevel.core.ahead import DEPTH, ahead, beside, has_free_processor, own_thread, under_way


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


def test_where_every_processor_has_a_file_nothing_gets_a_thread_of_its_own():
    """Same blocks, same results, same errors, in the thread that asks for them."""
    with contextlib.ExitStack() as files:
        for _ in os.sched_getaffinity(0):
            assert has_free_processor()
            files.enter_context(under_way())
        assert not has_free_processor()
        here = threading.get_ident()
        with ahead(threading.get_ident() for _ in range(3)) as blocks:
            assert list(blocks) == [here] * 3
        with beside(threading.get_ident) as found:
            assert found.result() == here
        with beside(lambda: 1 // 0) as found, pytest.raises(ZeroDivisionError):
            found.result()
    with own_thread() as thread:
        assert thread.submit(threading.get_ident).result() != here
