"""Files that vanish, shrink or change; backups; room on the disk: rows say what is there, and nothing is lost."""

import json
import os
import shutil
import subprocess
import sys
import zipfile

import pytest
import requests

from nicelevel.store.deliverables import FILE_CHANGED, FILE_LOST
from tests import signals
from tests.conftest import Live
from tests.faults.hands import Hands, wait_for

COMMAND = [sys.executable, "-m", "nicelevel.cli.main"]


def _command(folder, *arguments):
    environment = {**os.environ, "NICE_LEVEL_DATA_FOLDER": str(folder)}
    environment.pop("NICE_LEVEL_DATABASE_URL", None)
    return subprocess.run([*COMMAND, *arguments], env=environment, capture_output=True, text=True, timeout=120)


@pytest.fixture
def proved(hands, tmp_path):
    """A job with two proved files; its number, its first source and that one's path."""
    job = hands.new_job("Kept", "podcast")
    paths = [signals.write(tmp_path / f"{name}.wav", signals.noise(6, seed=n)) for n, name in enumerate("ab")]
    sources = [hands.upload(job, path) for path in paths]
    for source in sources:
        hands.measured(source)
    assert hands.render(job) == 2
    hands.all_proved(job)
    return job, sources[0], paths[0]


def _file_of(hands, source):
    query = "SELECT id, token, file_name FROM deliverable WHERE source_id = %s"
    ((key, token, name),) = hands.rows(query, source)
    return hands.live.data_folder / "deliverables" / str(key) / str(token) / name


def _audio_of(hands, source):
    ((digest,),) = hands.rows("SELECT digest FROM source WHERE id = %s", source)
    return hands.live.data_folder / "audio" / digest[:2] / digest


OF_JOB = ("/jobs/{job}", "/jobs/{job}/parts", "/jobs/{job}/handover", "/jobs/{job}/spread")
PAGES = ("/", *OF_JOB, "/specs/podcast", "/runs")


def _pages_answer(hands, job):
    for page in PAGES:
        assert wait_for(lambda page=page: hands.get(page.format(job=job)).status_code == 200, 30)


def test_a_source_that_vanished_is_said_on_its_row_and_found_again(hands, proved):
    job, source, path = proved
    shutil.rmtree(_audio_of(hands, source))
    assert "is missing" in _command(hands.live.data_folder, "verify").stdout
    assert hands.source_state(source)[0] == "failed"
    assert "Let the same file go here once more" in hands.get(f"/jobs/{job}").text
    _pages_answer(hands, job)
    hands.upload(job, path)
    hands.measured(source)


def test_pages_answer_while_nobody_knows_yet_that_a_source_vanished(hands, proved):
    job, source, _ = proved
    shutil.rmtree(_audio_of(hands, source))
    _pages_answer(hands, job)
    hands.live.stop()
    hands.live.start()
    _pages_answer(hands, job)
    assert hands.source_state(source)[0] == "failed"


def test_what_was_measured_and_vanished_is_measured_again(hands, proved):
    job, source, _ = proved
    for path in _audio_of(hands, source).glob("*.npy"):
        path.unlink()
    _command(hands.live.data_folder, "verify")
    _pages_answer(hands, job)
    hands.measured(source)
    assert (_audio_of(hands, source) / "energies.npy").exists()


@pytest.mark.parametrize(("harm", "sentence"), [("gone", FILE_LOST), ("short", FILE_CHANGED)])
def test_a_deliverable_that_vanished_or_shrank_is_in_no_package(hands, proved, harm, sentence):
    job, source, _ = proved
    path = _file_of(hands, source)
    if harm == "gone":
        path.unlink()
    else:
        os.truncate(path, path.stat().st_size - 1000)
    hands.check_package(job, 1)
    package = hands.package(job)
    told = json.loads(package.read("manifest.json"))
    assert told["complete"] is False
    assert told["missing"] == [{"title": "a", "destination": "Podcast feed", "reason": sentence}]
    assert sentence in package.read("NOT COMPLETE.txt").decode()
    assert sentence in package.read("proof.html").decode()
    assert hands.render(job) == 1
    hands.all_proved(job)
    hands.check_package(job, 2)
    assert json.loads(hands.package(job).read("manifest.json"))["complete"] is True


def _spoil(path):
    with path.open("r+b") as file:
        file.seek(5000)
        file.write(b"other")


def test_a_deliverable_that_was_changed_breaks_the_package_off_and_is_not_in_the_next(hands, proved):
    job, source, _ = proved
    _spoil(_file_of(hands, source))
    with pytest.raises((requests.RequestException, zipfile.BadZipFile)):
        hands.package(job)
    hands.check_package(job, 1)
    query = "SELECT error_message FROM deliverable WHERE source_id = %s"
    assert hands.rows(query, source) == [(FILE_CHANGED,)]


def test_verify_reads_every_byte(hands, proved):
    job, source, _ = proved
    assert _command(hands.live.data_folder, "verify", "--job", str(job)).returncode == 0
    _spoil(_file_of(hands, source))
    done = _command(hands.live.data_folder, "verify", "--job", str(job), "--json")
    assert done.returncode == 1
    assert json.loads(done.stdout) == {"job": "Kept", "name": "a_podcast.mp3", "sentence": FILE_CHANGED}
    assert "Checking: 100 %" in done.stderr


def test_a_backup_of_a_running_folder_is_restored_into_a_new_one(hands, proved, tmp_path):
    job, _, _ = proved
    target = tmp_path / "all.tar"
    done = _command(hands.live.data_folder, "backup", str(target))
    assert done.returncode == 0, done.stderr
    assert "is already there" in _command(hands.live.data_folder, "backup", str(target)).stderr
    done = _command(tmp_path / "data", "restore", str(target))
    assert done.returncode == 0, done.stderr
    assert "is not empty" in _command(tmp_path / "data", "restore", str(target)).stderr
    live = Live(tmp_path)
    Hands(live).check_package(job, 2)
    live.stop()
    assert _command(tmp_path / "data", "verify", "--job", str(job)).returncode == 0


def test_a_foreign_file_and_a_backup_that_broke_off_are_refused(hands, proved, tmp_path):
    (tmp_path / "notes.txt").write_text("Dear engineer")
    assert "is no backup" in _command(tmp_path / "data", "restore", str(tmp_path / "notes.txt")).stderr
    target = tmp_path / "all.tar"
    _command(hands.live.data_folder, "backup", str(target))
    os.truncate(target, target.stat().st_size // 2)
    done = _command(tmp_path / "data", "restore", str(target))
    assert done.returncode == 2
    assert "broke off" in done.stderr


def test_an_older_program_refuses_a_newer_database(tmp_path):
    live = Live(tmp_path)
    Hands(live).rows("INSERT INTO schema_migration (name, applied) VALUES ('9999_later', now()) RETURNING name")
    live.stop()
    done = _command(tmp_path / "data", "serve")
    assert done.returncode == 2
    assert "made by a newer version of Nice Level (9999_later)" in done.stderr


def test_what_belonged_to_what_is_gone_is_freed(hands, tmp_path):
    path = signals.write(tmp_path / "once.wav", signals.noise(6, seed=77))
    job = hands.new_job("Kept", "podcast")
    source = hands.upload(job, path)
    hands.measured(source)
    hands.render(job)
    hands.all_proved(job)
    home = _audio_of(hands, source)
    other = hands.new_job("Other", "podcast")
    hands.measured(hands.upload(other, path))
    written = _file_of(hands, source)
    hands.post(f"/sources/{source}/remove")
    assert written.exists()
    assert hands.post("/trash/empty").json()["freed_bytes"] > 90_000
    assert not written.exists()
    assert home.exists()
    hands.post(f"/jobs/{other}/delete")
    assert hands.post("/trash/empty").json()["freed_bytes"] > 90_000
    assert not home.exists()
    assert hands.get(f"/jobs/{other}").status_code == 404
