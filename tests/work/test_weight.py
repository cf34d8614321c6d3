"""What runs beside what: by memory and by length."""

import asyncio
import threading

import pytest

from nicelevel.core.channels import layout_from_count
from nicelevel.core.values import Shape
from nicelevel.work import worker
from nicelevel.work.app import open_queue
from nicelevel.work.weight import (
    LIGHTEST,
    WORKING,
    Weight,
    memory_for_works,
    queues_that_fit,
    weight_of_measuring,
    weight_of_preparing,
    weight_of_rendering,
)

LONG = Weight(256, True).queue
PLENTY = 12e9


def shape(channels, rate_hz, seconds):
    return Shape(rate_hz, layout_from_count(channels), rate_hz * seconds)


@pytest.mark.parametrize(
    ("weight", "memory_mb", "is_long"),
    [
        (weight_of_measuring(30_000_000), 256, False),
        (weight_of_measuring(7_000_000_000), 256, True),
        (weight_of_rendering(shape(2, 48_000, 600), False), 256, False),
        (weight_of_rendering(shape(2, 96_000, 3 * 3600), False), 256, True),
        (weight_of_rendering(shape(6, 96_000, 600), True), 512, False),
        (weight_of_preparing(shape(6, 96_000, 2700)), 512, True),
        (weight_of_preparing(shape(128, 96_000, 10)), 4096, False),
    ],
)
def test_weights(weight, memory_mb, is_long):
    assert (weight.memory_mb, weight.is_long) == (memory_mb, is_long)
    assert weight.queue in WORKING


def test_long_works_leave_one_place_to_short_ones_and_take_all_others():
    assert set(queues_that_fit([], 2, PLENTY)) == set(WORKING)
    assert set(queues_that_fit([LONG], 2, PLENTY)) == set(WORKING)
    beside = queues_that_fit([LONG, LONG], 2, PLENTY)
    assert "default" in beside
    assert not any(queue.startswith("long") for queue in beside)
    assert queues_that_fit([LONG, LONG, "default"], 2, PLENTY) == []
    assert queues_that_fit([LONG, "default"], 2, PLENTY) == []


def test_what_does_not_fit_beside_the_others_is_left_and_alone_everything_is_done():
    assert "short-512" not in queues_that_fit(["default"], 4, 600e6)
    assert "default" in queues_that_fit(["default"], 4, 600e6)
    assert queues_that_fit(["default", "default"], 4, 600e6) == []
    assert "short-4096" in queues_that_fit([], 4, 600e6)


def test_memory_is_what_is_told_or_half_of_the_machine():
    assert memory_for_works(2_000_000_000) == 1_680_000_000
    assert memory_for_works(1) == 256_000_000
    assert 256_000_000 <= memory_for_works(0) < 1 << 50


def test_a_short_work_does_not_wait_for_two_long_ones(config, monkeypatch):
    """Two long ones stand until the short one is through; a third long one is not begun."""
    order, passed = [], threading.Event()
    queue = open_queue(config.database_url)

    def stand(which, is_short):
        order.append(which)
        if is_short:
            passed.set()
        assert passed.wait(20)

    task = queue.task(name="stand")(stand)

    async def play():
        async with queue.open_async():
            for which in ("a", "b", "c"):
                await task.configure(queue=LONG).defer_async(which=which, is_short=False)
            await task.configure(queue=LIGHTEST.queue).defer_async(which="short", is_short=True)
            both = worker.workers_of(queue, config, wait=True)
            running = [asyncio.create_task(each.run()) for each in both]
            while len(order) < 4:
                await asyncio.sleep(0.05)
            for each in both:
                each.stop()
            await asyncio.gather(*running)

    asyncio.run(asyncio.wait_for(play(), 30))
    assert order[:3] == ["a", "b", "short"]
    assert order[3] == "c"
