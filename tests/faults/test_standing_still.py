"""Workers that stand still, are killed or lose their database in the middle: what is proved is whole."""

import os
import signal
import subprocess
import sys
import time

import pytest

from nicelevel.work.app import STALLED_S
from tests import signals
from tests.faults.hands import alive, command_of, descendants, stand_still, standing_still, tell, wait_for

LONGER_S = STALLED_S + 4.0
"""Past what a worker is taken for dead after."""


@pytest.fixture
def rendering(hands, tmp_path):
    """A job of one long source that is being rendered at this moment."""
    job = hands.new_job("Long", "feed")
    source = hands.upload(job, signals.write(tmp_path / "long.wav", signals.noise(300, seed=3)))
    hands.measured(source)
    assert hands.render(job) == 1
    wait_for(lambda: hands.is_under_way(job))
    return job


def _is_whole(hands, job):
    hands.all_proved(job)
    hands.check_package(job, 1)
    assert hands.unfinished_files() == []


def test_a_lid_that_was_closed_harms_nothing(hands, rendering):
    stand_still(descendants(hands.live.pid), LONGER_S)
    _is_whole(hands, rendering)


def test_a_worker_that_stood_still_goes_on_or_begins_anew(hands, rendering):
    stand_still([hands.live.worker_pid()], LONGER_S)
    _is_whole(hands, rendering)


def test_what_another_worker_took_over_is_not_published_by_the_first(hands, rendering):
    environment = {**os.environ, **hands.live.environment_of(hands.live.worker_pid())}
    other = subprocess.Popen([sys.executable, "-m", "nicelevel.cli.main", "worker"], env=environment)
    try:
        token = hands.rows("SELECT token FROM deliverable ORDER BY id DESC LIMIT 1")[0][0]
        first = hands.live.worker_pid()
        with standing_still([first]):
            wait_for(lambda: hands.rows("SELECT max(token) FROM deliverable")[0][0] > token)
        _is_whole(hands, rendering)
        (written,) = hands.rows("SELECT id, token FROM deliverable ORDER BY id DESC LIMIT 1")
        folder = hands.live.data_folder / "deliverables" / str(written[0])
        wait_for(lambda: [path.name for path in folder.iterdir()] == [str(written[1])])
    finally:
        other.terminate()
        other.wait(30)


@pytest.mark.parametrize("number", [signal.SIGKILL, signal.SIGTERM])
def test_a_worker_that_is_killed_begins_anew(hands, rendering, number):
    os.kill(hands.live.worker_pid(), number)
    _is_whole(hands, rendering)


def test_what_takes_two_processes_with_it_is_ended_with_a_sentence_and_alone(hands, rendering, tmp_path):
    neighbour = hands.new_job("Neighbour", "podcast")
    source = hands.upload(neighbour, signals.write(tmp_path / "short.wav", signals.noise(5, seed=4)))
    hands.measured(source)
    os.kill(hands.live.worker_pid(), signal.SIGKILL)
    hands.render(neighbour)
    (alone,) = wait_for(lambda: [pid for pid in descendants(hands.live.pid) if "try-task render" in command_of(pid)])
    wait_for(lambda: hands.is_under_way(rendering))
    os.kill(alone, signal.SIGSEGV)
    assert wait_for(lambda: hands.states(rendering) == ["failed"])
    (said,) = hands.rows("SELECT error_code, error_message FROM deliverable WHERE error_code IS NOT NULL")
    assert said[0] == "crashed"
    assert "ended in the middle, twice" in said[1]
    _is_whole(hands, neighbour)
    assert hands.render(rendering) == 1
    _is_whole(hands, rendering)


def test_a_second_try_that_finds_no_database_is_no_fault_of_its_file(hands, rendering):
    """The process of the second try begins and ends while the database is away."""
    os.kill(hands.live.worker_pid(), signal.SIGKILL)
    (alone,) = wait_for(lambda: [pid for pid in descendants(hands.live.pid) if "try-task render" in command_of(pid)])
    while alive(alone):
        tell(_postgres_pids(hands, "postmaster"), signal.SIGKILL)
        time.sleep(0.1)
    _is_whole(hands, rendering)


def _postgres_pids(hands, part):
    found = [pid for pid in descendants(hands.live.pid) if "postgres" in command_of(pid)]
    is_backend = {pid: command_of(pid).startswith("postgres:") for pid in found}
    if part == "postmaster":
        return [pid for pid in found if not is_backend[pid] and "-D" in command_of(pid)]
    return [pid for pid in found if "nice_level nice_level" in command_of(pid)][:1]


@pytest.mark.parametrize("part", ["backend", "postmaster"])
def test_a_database_that_dies_is_started_again_and_the_render_ends(hands, rendering, part):
    tell(_postgres_pids(hands, part), signal.SIGKILL)
    _is_whole(hands, rendering)
    assert hands.get("/").status_code == 200


def test_pages_say_what_is_the_matter_while_the_database_is_away(hands):
    hands.new_job("Any", "podcast")
    (postmaster,) = _postgres_pids(hands, "postmaster")
    with standing_still([hands.live.pid]):
        tell(descendants(postmaster), signal.SIGKILL)
        wait_for(lambda: not alive(postmaster), 30)
        page = hands.get("/", headers={"Accept": "text/html"})
        assert page.status_code == 503
        assert "The database does not answer" in page.text
        assert 'http-equiv="refresh"' in page.text
        assert wait_for(lambda: "starts it again" in hands.get("/changes").json()["trouble"])
    wait_for(lambda: hands.get("/").status_code == 200)
    wait_for(lambda: hands.get("/changes").json()["trouble"] == "")
