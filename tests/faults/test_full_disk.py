"""A disk that fills up and has room again: sentences meanwhile, and all goes on afterwards."""

import os
import subprocess

import pytest

from tests import signals
from tests.conftest import Live
from tests.faults.hands import Hands, mount_disk, wait_for

DISK_MB = 700
TRIED_S = 300.0
"""What fails for want of room is tried again with waits between: a hundred seconds where nothing else runs."""


@pytest.fixture
def small(tmp_path):
    """Nice Level on a disk of its own that can be filled."""
    folder = tmp_path / "small"
    mount_disk(folder, f"size={DISK_MB}m")
    live = Live(folder)
    yield Hands(live)
    _free(live)
    live.stop()
    subprocess.run(["umount", "-l", folder], check=True)


def _fill(live, left_bytes):
    """Take all of the disk but so much."""
    with (live.data_folder / "ballast").open("ab") as file:
        usage = os.statvfs(live.data_folder)
        free = usage.f_bavail * usage.f_frsize
        os.posix_fallocate(file.fileno(), 0, file.tell() + max(1, free - left_bytes))


def _free(live):
    (live.data_folder / "ballast").unlink(missing_ok=True)


def test_what_cannot_be_prepared_for_want_of_room_says_so_and_can_be_done_again(small, tmp_path):
    job = small.new_job("Full")
    source = small.upload(job, signals.write(tmp_path / "take.wav", signals.noise(240, seed=3), subtype="PCM_16"))
    small.measured(source)
    _fill(small.live, 2_000_000)
    asked = small.post(f"/jobs/{job}/destinations", data={"slug": "compact-disc"}, allow_redirects=False)
    assert asked.status_code == 302

    def seen():
        jobs = small.rows("SELECT task_name, status, attempts, worker_id, scheduled_at FROM procrastinate_jobs")
        return f"{small.rows('SELECT state FROM preparing')} {jobs} {small.live.log()[-2000:]}"

    failed = "SELECT error_message FROM preparing WHERE state = 'failed'"
    ((sentence,),) = wait_for(lambda: small.rows(failed), TRIED_S, seen)
    assert "No space is left" in sentence
    board = small.get(f"/jobs/{job}").text
    assert "It could not be resampled to 44100 Hz: No space is left" in board
    assert small.unfinished_files() == []
    _free(small.live)
    assert small.post(f"/sources/{source}/again").json()["queued"] == 1
    wait_for(lambda: not small.rows("SELECT 1 FROM preparing WHERE state <> 'done'"))
    assert small.render(job) == 1
    small.all_proved(job)


def test_a_file_that_does_not_fit_is_refused_and_one_that_breaks_the_disk_is_said(small, tmp_path):
    job = small.new_job("Full", "full-resolution")
    path = signals.write(tmp_path / "take.wav", signals.noise(240, seed=5), subtype="PCM_24")
    source = small.upload(job, path)
    small.measured(source)
    _fill(small.live, 3_000_000)
    assert small.render(job) == 1
    wait_for(lambda: small.states(job) == ["failed"])
    ((code, sentence),) = small.rows("SELECT error_code, error_message FROM deliverable")
    assert (code, sentence) == ("no_space", "No space is left to write take_full-resolution.wav.")
    refused = small.post(f"/jobs/{job}/uploads", headers={"Upload-Length": "90000000"})
    assert refused.status_code == 507
    assert "There is no room for 90.0 MB" in refused.json()["error"]["message"]
    assert small.unfinished_files() == []
    _free(small.live)
    small.render(job)
    small.all_proved(job)
    small.check_package(job, 1)


def test_a_database_without_room_is_back_as_soon_as_there_is_some(small, tmp_path):
    job = small.new_job("Full", "full-resolution")
    source = small.upload(job, signals.write(tmp_path / "take.wav", signals.noise(20, seed=3)))
    small.measured(source)
    _fill(small.live, 0)
    for number in range(40):
        small.post("/jobs", data={"title": f"More {number} " + "x" * 180})
    _free(small.live)
    wait_for(lambda: small.get("/").status_code == 200, 60)
    wait_for(lambda: small.render(job) or set(small.states(job)) == {"proved"}, 60)
    small.all_proved(job)
    small.check_package(job, 1)
