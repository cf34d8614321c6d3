"""Backups that are taken by themselves: what is new is written, all comes back, what is damaged is said."""

import json
import os
from contextlib import contextmanager
from datetime import UTC, datetime, timedelta

import pytest

from nicelevel.config import read_config
from nicelevel.core.digest import sha256_of
from nicelevel.core.errors import DamagedError
from nicelevel.run.backup import BackupError
from nicelevel.run.snapshots import LOCK, OBJECTS, expire_snapshots, restore_snapshot, take_snapshot, verify_snapshot
from nicelevel.store.backups import LIST, TIME_FORMAT, last_checked, snapshots
from tests import signals
from tests.conftest import Live
from tests.faults.hands import Hands, wait_for


def untold(done_bytes, total_bytes):
    assert done_bytes <= total_bytes


@contextmanager
def at_work(folder, **settings):
    folder.mkdir(exist_ok=True)
    live = Live(folder, settings=settings)
    try:
        yield Hands(live)
    finally:
        live.stop()


def config_of(hands):
    """The settings of a run, for taking backups of it from here."""
    return read_config(
        {"NICE_LEVEL_DATA_FOLDER": str(hands.live.data_folder), "NICE_LEVEL_DATABASE_URL": hands.live.database_url()}
    )


def proved_job(hands, tmp_path, name, seed):
    job = hands.new_job(name, "podcast")
    hands.measured(hands.upload(job, signals.write(tmp_path / f"{name}.wav", signals.noise(6, seed=seed))))
    assert hands.render(job) == 1
    hands.all_proved(job)
    return job


def objects(into):
    return {each.name for each in (into / OBJECTS).glob("??/*")}


def test_what_was_kept_before_is_not_written_again_and_all_comes_back(tmp_path):
    """Onto an empty machine: another folder, another database, and the same links of clients."""
    into = tmp_path / "backups"
    with at_work(tmp_path / "one") as hands:
        config = config_of(hands)
        first = proved_job(hands, tmp_path, "First", 1)
        link = hands.post(f"/jobs/{first}/links", data={"client": "The ferry"}).json()["address"]
        one = take_snapshot(config, into, untold)
        assert one.fresh == one.files > 5
        kept = objects(into)
        again = take_snapshot(config, into, untold) if wait_for(lambda: _next_second(one.folder), 5) else None
        assert (again.fresh, again.fresh_bytes) == (0, 0)
        proved_job(hands, tmp_path, "Second", 2)
        wait_for(lambda: _next_second(again.folder), 5)
        second = take_snapshot(config, into, untold)
        assert 0 < second.fresh < second.files
        assert objects(into) > kept
        assert hands.get("/").status_code == 200
        before = hands.rows("SELECT id, sha256, state FROM deliverable ORDER BY id")
    assert verify_snapshot(second.folder, untold) == []
    assert last_checked(into).wrong == ()
    empty = read_config({"NICE_LEVEL_DATA_FOLDER": str(tmp_path / "two" / "data")})
    assert restore_snapshot(empty, second.folder, untold) == second.files
    with at_work(tmp_path / "two") as hands:
        assert hands.rows("SELECT id, sha256, state FROM deliverable ORDER BY id") == before
        hands.check_package(first, 1)
        assert hands.get("/for/" + link.partition("/for/")[2]).status_code == 200
        assert "All is there" in hands.live.command(["verify"])
        # Of an earlier one what was there then comes back.
    older = read_config({"NICE_LEVEL_DATA_FOLDER": str(tmp_path / "three" / "data")})
    assert restore_snapshot(older, one.folder, untold) == one.files
    with at_work(tmp_path / "three") as hands:
        assert len(hands.rows("SELECT id FROM job")) == 1
        assert "All is there" in hands.live.command(["verify"])


def _next_second(folder):
    return datetime.now(UTC).strftime(TIME_FORMAT) != folder.name


@pytest.fixture
def small(tmp_path, database_url, config):
    """A data folder with two files over the tests' own database, and a backup of it."""
    for name, contents in (("audio/ab/abcd/audio", b"sound" * 1000), ("deliverables/1/2/mix.wav", b"level" * 999)):
        path = config.data_folder / name
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_bytes(contents)
    into = tmp_path / "backups"
    return config, into, take_snapshot(config, into, untold).folder


@pytest.mark.parametrize("harm", ["gone", "spoilt", "database"])
def test_what_is_damaged_is_found_and_not_brought_back(small, tmp_path, harm):
    _, into, snapshot = small
    (place,) = (each for each in (into / OBJECTS).glob("??/*") if each.stat().st_size == 5000)
    if harm == "gone":
        place.unlink()
    else:
        target = place if harm == "spoilt" else snapshot / "database.dump"
        target.chmod(0o644)
        with target.open("r+b") as file:
            file.seek(40)
            file.write(b"other")
    found = verify_snapshot(snapshot, untold)
    words = {"gone": "is missing.", "spoilt": "is damaged.", "database": "The database in it is damaged."}
    assert len(found) == 1
    assert words[harm] in found[0]
    assert last_checked(into).wrong == tuple(found)
    if harm != "database":
        empty = read_config({"NICE_LEVEL_DATA_FOLDER": str(tmp_path / "empty")})
        with pytest.raises(DamagedError, match="audio/ab/abcd/audio"):
            restore_snapshot(empty, snapshot, untold)


def test_a_damaged_object_is_written_anew_where_its_length_shows_it(small):
    config, into, snapshot = small
    (place,) = (each for each in (into / OBJECTS).glob("??/*") if each.stat().st_size == 5000)
    place.chmod(0o644)
    os.truncate(place, 10)
    wait_for(lambda: _next_second(snapshot), 5)
    taken = take_snapshot(config, into, untold)
    assert taken.fresh == 1
    assert sha256_of(place) == place.name
    assert verify_snapshot(taken.folder, untold) == []


def test_old_ones_go_and_what_nobody_needs_with_them(small):
    config, into, snapshot = small
    (config.data_folder / "audio/ab/abcd/audio").unlink()
    (config.data_folder / "audio/ab/abcd/other").write_bytes(b"newer" * 500)
    wait_for(lambda: _next_second(snapshot), 5)
    newest = take_snapshot(config, into, untold).folder
    for days in (40, 50):  # and two that are old, of the first state
        made = into / (datetime.now(UTC) - timedelta(days=days)).strftime(TIME_FORMAT)
        made.mkdir()
        (made / LIST).write_text((snapshot / LIST).read_text())
    old = snapshot.rename(into / (datetime.now(UTC) - timedelta(days=60)).strftime(TIME_FORMAT))
    gone, freed_bytes = expire_snapshots(into, timedelta(days=30))
    assert (gone, freed_bytes) == ([old], 0)  # the last three stay, and need the first file
    wait_for(lambda: _next_second(newest), 5)
    take_snapshot(config, into, untold)
    wait_for(lambda: _next_second(snapshots(into)[-1]), 5)
    take_snapshot(config, into, untold)
    gone, freed_bytes = expire_snapshots(into, timedelta(days=30))
    assert (len(gone), freed_bytes) == (2, 5000)
    assert len(snapshots(into)) == 3
    assert verify_snapshot(snapshots(into)[-1], untold) == []


def test_one_at_a_time_and_what_a_killed_one_left_is_swept(small):
    import fcntl

    config, into, snapshot = small
    (into / ".2026-01-01T000000Z.part").mkdir()
    (into / OBJECTS / ".99.part").write_bytes(b"half")
    with (into / LOCK).open("rb") as held:
        fcntl.flock(held, fcntl.LOCK_EX)
        with pytest.raises(BackupError, match="under way"):
            take_snapshot(config, into, untold)
    wait_for(lambda: _next_second(snapshot), 5)
    take_snapshot(config, into, untold)
    assert [each.name for each in into.iterdir() if each.name.startswith(".")] == []
    assert not (into / OBJECTS / ".99.part").exists()


def test_a_list_that_points_elsewhere_brings_nothing_there(small, tmp_path):
    _, _, snapshot = small
    told = json.loads((snapshot / LIST).read_text())
    told["files"][0]["path"] = "../../planted"
    (snapshot / LIST).write_text(json.dumps(told))
    empty = read_config({"NICE_LEVEL_DATA_FOLDER": str(tmp_path / "deep" / "empty")})
    with pytest.raises(DamagedError, match="outside"):
        restore_snapshot(empty, snapshot, untold)
    assert not (tmp_path / "planted").exists()
    with pytest.raises(BackupError, match="no backup"):
        restore_snapshot(empty, tmp_path, untold)


def test_they_are_taken_and_read_again_by_themselves(tmp_path):
    into = tmp_path / "backups"
    with at_work(tmp_path / "one", BACKUP_FOLDER=str(into)) as hands:
        assert wait_for(lambda: snapshots(into), 60)
        assert wait_for(lambda: hands.get("/health").json()["problems"] == [], 30)
        assert wait_for(lambda: last_checked(into), 90)
        assert last_checked(into).wrong == ()
        assert len(snapshots(into)) == 1
        assert "all of it is as it was" in hands.live.command(["backup", str(into), "--check"])
