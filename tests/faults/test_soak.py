"""Two minutes of the soak; `make soak` runs twenty."""

from tests.faults.soak import soak


def test_nothing_is_half_stuck_or_lost_after_two_minutes_of_everything_failing(tmp_path):
    counted = soak(minutes=2.0, seed=15, folder=tmp_path)
    assert counted["proved"] > 0
    assert sum(counted.get(name, 0) for name in ("upload", "render", "look")) > 20
