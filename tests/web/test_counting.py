"""A job is counted once for however many pages ask, and never said to be as it was before somebody asked."""

import threading
import time

import pytest

from nicelevel.store.jobs import name_job
from nicelevel.store.models import Source
from nicelevel.web import counting as counting_module
from nicelevel.web.board import counted_of
from nicelevel.web.counting import SIDE_BY_SIDE, WAITING, Counts
from tests import signals

from .asking import once_counted
from .uploading import upload, wav

SOON_S = 5.0


class Counting:
    """A count that goes on until it is let go; what it finds is how many there were before."""

    def __init__(self):
        self.begun, self.may_end, self.at_once, self.most = 0, threading.Semaphore(0), 0, 0
        self._lock = threading.Lock()

    def __call__(self, job_id):
        with self._lock:
            self.begun += 1
            number = self.begun
            self.at_once += 1
            self.most = max(self.most, self.at_once)
        assert self.may_end.acquire(timeout=SOON_S)
        with self._lock:
            self.at_once -= 1
        return job_id, number


@pytest.fixture
def counting():
    return Counting()


def until(asked):
    end_s = time.monotonic() + SOON_S
    while time.monotonic() < end_s:
        if found := asked():
            return found
        time.sleep(0.01)
    raise AssertionError("it did not come")


def test_nobody_is_kept_and_all_get_the_same(counting):
    counts = Counts(counting)
    asked_s = time.monotonic()
    assert [counts.counted(1, asked_s) for _ in range(3)] == [None, None, None]
    counting.may_end.release()
    assert until(lambda: counts.counted(1, asked_s)) == (1, 1)
    assert counts.counted(1, asked_s) == (1, 1)
    assert counting.begun == 1


def test_who_asks_while_one_is_under_way_gets_the_next(counting):
    counts = Counts(counting)
    early_s = time.monotonic()
    counts.counted(1, early_s)
    until(lambda: counting.begun)
    late_s = time.monotonic()
    assert counts.counted(1, late_s) is None
    counting.may_end.release()
    assert until(lambda: counts.counted(1, early_s)) == (1, 1)
    assert counts.counted(1, late_s) is None
    counting.may_end.release()
    assert until(lambda: counts.counted(1, late_s)) == (1, 2)
    assert counts.counted(1, early_s) == (1, 2)
    assert counting.begun == 2


def test_few_wait_and_the_others_are_told_at_once(counting):
    counts, asked_s = Counts(counting), time.monotonic()
    counts.counted(1, asked_s)
    waiting = [threading.Thread(target=counts.counted, args=(1, asked_s)) for _ in range(WAITING)]
    for each in waiting:
        each.start()
    until(lambda: counts._waiting._value == 0)
    began_s = time.monotonic()
    assert counts.counted(1, asked_s) is None
    assert time.monotonic() - began_s < 0.4
    counting.may_end.release()
    for each in waiting:
        each.join(SOON_S)
    assert counts._waiting._value == WAITING


def test_so_many_jobs_are_counted_side_by_side_and_no_more(counting):
    counts, asked_s = Counts(counting), time.monotonic()
    jobs = range(SIDE_BY_SIDE + 2)
    for job_id in jobs:
        threading.Thread(target=counts.counted, args=(job_id, asked_s)).start()
    until(lambda: counting.begun == SIDE_BY_SIDE)
    for _ in jobs:
        counting.may_end.release()
    assert sorted(until(lambda job=job_id: counts.counted(job, asked_s))[0] for job_id in jobs) == list(jobs)
    assert counting.most == SIDE_BY_SIDE


def test_a_job_is_left_alone_for_as_long_as_counting_it_took():
    times_s = []

    def count(job_id):
        times_s.append(time.monotonic())
        time.sleep(0.3)
        times_s.append(time.monotonic())
        return "counted"

    counts = Counts(count)
    for _ in range(2):
        asked_s = time.monotonic()
        assert until(lambda asked_s=asked_s: counts.counted(1, asked_s)) == "counted"
    _, ended_s, again_s, _ = times_s
    assert again_s - ended_s >= 0.3


def test_what_goes_wrong_is_told_once_and_tried_again():
    came = []

    def count(job_id):
        came.append(job_id)
        if len(came) == 1:
            raise ValueError("The database does not answer.")
        return "counted"

    counts, asked_s = Counts(count), time.monotonic()
    with pytest.raises(ValueError, match="does not answer"):
        until(lambda: counts.counted(1, asked_s))
    assert until(lambda: counts.counted(1, time.monotonic())) == "counted"


def test_the_bar_and_the_list_say_what_is_so_when_they_ask(client, job, work_off):
    upload(client, job, "take.wav", wav(signals.noise(1, -20, seed=1)))
    work_off()
    assert "1 source<" in once_counted(client, f"/jobs/{job.id}/bar")
    name_job(job, "Called otherwise")
    row = once_counted(client, f"/jobs/{job.id}/row")
    assert "Called otherwise" in row
    assert 'class="fig">1<' in row
    Source.update(state="failed").where(Source.job == job.id).execute()
    assert "0 land" in once_counted(client, f"/jobs/{job.id}/bar")


@pytest.mark.parametrize("part", ["row", "bar"])
def test_a_count_does_not_give_way_to_whoever_waits_for_it(client, job, monkeypatch, part):
    def count(job_id, audio, pause):
        pause()
        return counted_of(job_id, audio, pause)

    monkeypatch.setattr(counting_module, "counted_of", count)
    monkeypatch.setattr(counting_module, "WAIT_S", 20.0)
    assert client.get(f"/jobs/{job.id}/{part}").status_code == 200


@pytest.mark.parametrize("waited", ["", "soon", "-5", "nan", "inf", "1e400"])
def test_no_wait_that_is_told_is_wrong(client, job, waited):
    assert client.get(f"/jobs/{job.id}/bar?waited_ms={waited}").status_code in (200, 202)
    assert client.get("/jobs/999999/bar").status_code == 404
