"""A long count stands still while somebody waits for a page, and comes to its end all the same."""

import threading
import time

from nicelevel.web.giving_way import Count, GivingWay


def test_a_count_stands_still_while_somebody_waits():
    way = GivingWay()
    count, done = Count(way), threading.Event()
    way.come()
    counting = threading.Thread(target=lambda: [count.pause(), done.set()])
    counting.start()
    assert not done.wait(0.2)
    way.go()
    assert done.wait(5)
    counting.join()


def test_it_gives_way_for_so_long_in_all_and_no_longer():
    way = GivingWay()
    count = Count(way, longest_s=0.1)
    way.come()
    begun_s = time.monotonic()
    for _ in range(1000):
        count.pause()
    assert time.monotonic() - begun_s < 5


def test_every_request_ends_its_waiting_also_where_it_fails(client, job):
    way = client.application.extensions["giving_way"]
    for path in (f"/jobs/{job.id}", f"/jobs/{job.id}/bar", "/nowhere", "/jobs/999999", "/changes"):
        client.get(path)
        assert not way.is_waited, path
