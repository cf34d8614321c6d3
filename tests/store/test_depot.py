"""Object storage behind the data folder, against a stand-in that speaks S3: what is lost here comes back."""

import asyncio
import os
import shutil
import socket
import threading
import time
from contextlib import suppress
from dataclasses import replace

import fsspec
import pytest
from moto.s3.models import S3Backend
from moto.server import ThreadedMotoServer

from nicelevel.config import read_config
from nicelevel.core.digest import sha256_of
from nicelevel.run.supervisor import prepare
from nicelevel.store import depot
from nicelevel.store.audio import AudioFolder
from nicelevel.store.database import database
from nicelevel.store.deliverables import deliverables_of, file_of
from nicelevel.store.depot import DepotAwayError, make_room, open_depot
from nicelevel.store.jobs import destinations_of
from nicelevel.store.models import Job
from nicelevel.store.patient_s3 import PIECE_BYTES, PatientS3
from nicelevel.store.sources import sources_of
from nicelevel.web import create_app
from nicelevel.work.keeping import reconcile, sweep_storage
from tests import signals
from tests.conftest import _work_off
from tests.faults.hands import wait_for
from tests.web.uploading import JSON, upload, wav

PATIENCE_S = 2.0


@pytest.fixture
def storage(monkeypatch):
    """A bucket of a stand-in; its address."""
    monkeypatch.setenv("AWS_ACCESS_KEY_ID", "for-tests")
    monkeypatch.setenv("AWS_SECRET_ACCESS_KEY", "for-tests")
    monkeypatch.setenv("AWS_DEFAULT_REGION", "us-east-1")
    server = ThreadedMotoServer(ip_address="127.0.0.1", port=0)
    server.start()
    host, port = server.get_host_and_port()
    address = f"http://{host}:{port}"
    system = fsspec.filesystem("s3", client_kwargs={"endpoint_url": address}, use_listings_cache=False)
    if system.exists("levels"):  # the stand-in keeps everything for as long as the process runs
        system.rm("levels", recursive=True)
    system.mkdir("levels")
    yield server, address, system
    server.stop()
    depot._depot.clear()


@pytest.fixture
def config(config, storage):
    """Settings of a machine that keeps its files there."""
    made = replace(config, object_storage="s3://levels/studio", object_storage_endpoint=storage[1])
    open_depot(made, PATIENCE_S)
    return made


def another_machine(config, tmp_path, name):
    """The same studio on another machine: an empty disk over the same database and storage."""
    made = replace(config, data_folder=tmp_path / name)
    for each in (made.audio_folder, made.deliverables_folder, made.uploads_folder):
        each.mkdir(parents=True)
    open_depot(made, PATIENCE_S)
    app = create_app(made, made.database_url)
    app.config["WTF_CSRF_ENABLED"] = False
    database.connect(reuse_if_open=True)
    return made, app.test_client()


@pytest.fixture
def here(config, store):
    app = create_app(config, config.database_url)
    app.config["WTF_CSRF_ENABLED"] = False
    database.connect(reuse_if_open=True)
    return app.test_client()


@pytest.fixture
def job(here):
    return Job.get_by_id(here.post("/jobs", data={"title": "Work"}, headers=JSON).json["id"])


PAGES = ("/jobs/{job}", "/jobs/{job}/handover", "/jobs/{job}/spread", "/sources/{source}/reading", "/runs")


def test_what_one_machine_took_in_another_renders_and_a_third_hands_over(config, here, job, work_off, tmp_path):
    upload(here, job, "Night ferry.wav", wav(signals.programme(9, seed=2)))
    work_off()
    source = sources_of(job.id)[0]
    assert source.state == "measured"
    here.post(f"/jobs/{job.id}/render", headers=JSON)
    second, there = another_machine(config, tmp_path, "second")

    asyncio.run(_work_off(second))
    made = deliverables_of(job.id, ["proved"])
    assert made
    assert all(file_of(each, second.deliverables_folder).is_file() for each in made)
    assert not any(file_of(each, config.deliverables_folder).exists() for each in made)
    third, client = another_machine(config, tmp_path, "third")
    for page in PAGES:
        assert client.get(page.format(job=job.id, source=source.id)).status_code == 200, page
    # Looking at a handover brings no file; asking for one does.
    assert not list(third.deliverables_folder.rglob("*.*"))
    answer = client.get(f"/deliverables/{made[0].id}/file")
    assert answer.status_code == 200
    assert sha256_of(file_of(made[0], third.deliverables_folder)) == made[0].sha256
    package = client.get(f"/jobs/{job.id}/package.zip")
    assert len(package.data) > sum(each.size_bytes for each in made)
    assert client.get(f"/hear/made-{made[0].id}/48000/2").status_code == 200
    assert client.get(f"/hear/source-{source.id}/48000/2").status_code == 200
    assert there.get("/health").status_code in (200, 503)


def test_a_disk_that_is_lost_loses_nothing(config, here, job, work_off):
    upload(here, job, "Night ferry.wav", wav(signals.programme(9, seed=2)))
    work_off()
    here.post(f"/jobs/{job.id}/render", headers=JSON)
    work_off()
    made = deliverables_of(job.id, ["proved"])
    before = {each.id: each.sha256 for each in made}
    for folder in (config.audio_folder, config.deliverables_folder):
        shutil.rmtree(folder)
        folder.mkdir()
    assert reconcile(config) == []
    for page in PAGES:
        assert here.get(page.format(job=job.id, source=sources_of(job.id)[0].id)).status_code == 200, page
    assert reconcile(config, tell=lambda done, total: None) == []
    assert {each.id: each.sha256 for each in deliverables_of(job.id, ["proved"])} == before
    assert all(sha256_of(file_of(each, config.deliverables_folder)) == each.sha256 for each in made)
    here.post(f"/deliverables/{made[0].id}/again", headers=JSON)
    work_off()
    again = deliverables_of(job.id, ["proved"])
    assert {each.id: each.sha256 for each in again} == before


def test_a_start_over_an_empty_disk_takes_nothing_for_lost(config, here, job, work_off):
    upload(here, job, "Night ferry.wav", wav(signals.programme(9, seed=2)))
    work_off()
    shutil.rmtree(config.audio_folder)
    depot._depot.clear()  # another process
    prepare(replace(config, demo=False), config.database_url)
    database.connect(reuse_if_open=True)
    assert [each.state for each in sources_of(job.id)] == ["measured"]


def test_what_nobody_needs_goes_there_too(config, here, job, work_off, storage):
    upload(here, job, "Night ferry.wav", wav(signals.programme(9, seed=2)))
    work_off()
    here.post(f"/jobs/{job.id}/render", headers=JSON)
    work_off()
    first = set(storage[2].find("levels/studio/deliverables"))
    made = deliverables_of(job.id, ["proved"])
    assert len(first) == len(made)
    here.post(f"/deliverables/{made[0].id}/again", headers=JSON)
    work_off()
    second = set(storage[2].find("levels/studio/deliverables"))
    assert len(second) == len(made)
    assert second != first
    here.post(f"/jobs/{job.id}/delete", headers=JSON)
    here.post("/trash/empty", headers=JSON)
    assert storage[2].find("levels/studio") == []


def test_what_was_let_go_of_while_the_storage_was_away_goes_later(config, here, job, work_off, storage, monkeypatch):
    upload(here, job, "Night ferry.wav", wav(signals.programme(9, seed=2)))
    work_off()
    here.post(f"/jobs/{job.id}/render", headers=JSON)
    work_off()
    needed = set(storage[2].find("levels/studio"))
    made = deliverables_of(job.id, ["proved"])[0]
    digest = "f" * 64
    left = (
        f"deliverables/{made.id}/0/old.wav",
        "deliverables/999999/7/x.wav",
        f"audio/ff/{digest}/audio",
        "arrivals/8/x",
    )
    for name in left:
        storage[2].pipe_file(f"levels/studio/{name}", b"left")
    sweep_storage(config)
    assert set(storage[2].find("levels/studio")) == needed | {f"levels/studio/{name}" for name in left}  # it is young
    monkeypatch.setattr(depot, "YOUNG_S", -1.0)
    sweep_storage(config)
    assert set(storage[2].find("levels/studio")) == needed


def test_the_cache_lets_go_of_what_was_not_used_for_longest(config, here, job, work_off):
    for name, seed in (("Old.wav", 2), ("New.wav", 3)):
        upload(here, job, name, wav(signals.programme(9, seed=seed)))
    work_off()
    audio = AudioFolder(config.audio_folder)
    old, new = (audio.named_path(each.digest) for each in sources_of(job.id))
    whole = sum(size_bytes for _, size_bytes, _ in depot._cached(config))
    assert make_room(replace(config, cache_bytes=1)) == 0  # all of it was used just now
    for path in config.audio_folder.rglob("*"):
        if path.is_file() and path != new:
            used_s = 1_000_000_000 if path != old else 999_999_999
            os.utime(path, (used_s, used_s))
    kept = whole - old.stat().st_size
    assert make_room(replace(config, cache_bytes=kept)) == whole - kept
    assert not old.exists()
    assert sum(size_bytes for _, size_bytes, _ in depot._cached(config)) == kept
    assert make_room(replace(config, cache_bytes=1)) > 0
    assert new.exists()
    assert audio.existing_path(old.parent.name) == old
    assert here.get(f"/jobs/{job.id}").status_code == 200


def test_a_file_that_does_not_come_whole_is_not_taken_for_the_one_that_was_kept(config, here, job, work_off, storage):
    upload(here, job, "Night ferry.wav", wav(signals.programme(9, seed=2)))
    work_off()
    audio, source = AudioFolder(config.audio_folder), sources_of(job.id)[0]
    path = audio.named_path(source.digest)
    key = f"levels/studio/{path.relative_to(config.data_folder)}"
    storage[2].pipe_file(key, path.read_bytes()[:-1] + b"x")
    path.unlink()
    with pytest.raises(DepotAwayError, match="did not come whole"):
        audio.existing_path(source.digest)
    assert list(path.parent.glob(".*.part")) == []


def test_a_storage_that_is_away_is_said_and_waited_for(config, here, job, work_off, storage):
    upload(here, job, "Night ferry.wav", wav(signals.programme(9, seed=2)))
    work_off()
    source = sources_of(job.id)[0]
    server, address, _ = storage
    server.stop()
    away = upload(here, job, "Day ferry.wav", wav(signals.programme(9, seed=3)))
    assert (away.status_code, away.json["error"]["code"]) == (503, "storage_away")
    assert len(sources_of(job.id)) == 1
    assert "object storage" in " ".join(here.get("/health").json["problems"])
    here.post(f"/jobs/{job.id}/render", headers=JSON)
    work_off()
    states = {each.state for each in deliverables_of(job.id)}
    assert states == {"queued"}  # put back, and tried again after a while
    waits = database.execute_sql("SELECT min(scheduled_at) > now() FROM procrastinate_jobs WHERE status = 'todo'")
    assert waits.fetchone() == (True,)
    back = ThreadedMotoServer(ip_address="127.0.0.1", port=int(address.rpartition(":")[2]))
    back.start()
    time.sleep(depot.ASKED_EVERY_S)  # for so long what was said last is believed
    try:
        database.execute_sql("UPDATE procrastinate_jobs SET scheduled_at = now() - interval '1 second'")
        assert upload(here, job, "Day ferry.wav", wav(signals.programme(9, seed=3))).status_code == 200
        work_off()
        made = [each for each in deliverables_of(job.id) if each.source_id == source.id]
        assert {each.state for each in made} == {"proved"}
    finally:
        back.stop()


def test_places_whose_plans_lie_in_a_storage_that_is_away_are_not_left_out_in_silence(
    config, here, job, work_off, storage, tmp_path
):
    upload(here, job, "Night ferry.wav", wav(signals.programme(9, seed=2)))
    work_off()
    _, there = another_machine(config, tmp_path, "second")
    storage[0].stop()
    told = there.post(f"/jobs/{job.id}/render", headers=JSON).json
    assert told == {"queued": 0, "held": 0, "coming": len(destinations_of(job.id))}


def test_without_object_storage_nothing_is_asked_of_anybody(tmp_path):
    open_depot(read_config({"NICE_LEVEL_DATA_FOLDER": str(tmp_path)}), PATIENCE_S)
    path = tmp_path / "audio" / "x"
    assert depot.bring(path) == path
    assert depot.size_there(path) is None
    assert depot.names_in(tmp_path) == []
    assert depot.depot_answers()


class Silent:
    """A storage that takes what it is asked and never says a word."""

    def __init__(self):
        self._door = socket.create_server(("127.0.0.1", 0))
        self.address = f"http://127.0.0.1:{self._door.getsockname()[1]}"
        self.asked = []
        threading.Thread(target=self._listen, daemon=True).start()

    def _listen(self):
        with suppress(OSError):
            while True:
                self.asked.append(self._door.accept()[0])

    def close(self):
        for each in (self._door, *self.asked):
            each.close()


@pytest.fixture
def silent(config, monkeypatch):
    """A depot over such a storage."""
    monkeypatch.setattr(depot, "LEAST_SILENCE_S", 2.0)
    made = Silent()
    open_depot(replace(config, object_storage_endpoint=made.address), 0.1)
    yield made
    made.close()


def test_nobody_waits_long_for_a_storage_that_is_silent(config, silent, monkeypatch):
    monkeypatch.setattr(depot, "BACK_WITHIN_S", 0.0)
    path = config.audio_folder / "ab" / "audio"
    path.parent.mkdir()
    path.write_bytes(b"sound")
    with pytest.raises(DepotAwayError):
        depot.keep(path)
    assert 1 <= len(silent.asked) <= PatientS3.retries
    for _ in range(20):
        with pytest.raises(DepotAwayError):
            depot.keep(path)
    # Of those who came later nobody asked: one question for all was whether it is there again.
    assert len(silent.asked) <= 2 * PatientS3.retries


def test_a_storage_may_put_a_large_file_together_for_longer_than_it_may_be_silent(storage, monkeypatch, tmp_path):
    _, address, system = storage
    complete = S3Backend.complete_multipart_upload
    path = tmp_path / "large"
    path.write_bytes(os.urandom(2 * PIECE_BYTES + 1))
    patient = PatientS3(2.0, address)

    def slow(*told):
        time.sleep(5.0)
        return complete(*told)

    monkeypatch.setattr(S3Backend, "complete_multipart_upload", slow)
    patient.put_file(str(path), "levels/large")
    assert system.cat_file("levels/large") == path.read_bytes()


def test_one_asks_whether_it_is_there_for_all_who_want_to_know(silent, monkeypatch):
    monkeypatch.setattr(depot, "ANSWERS_WITHIN_S", 0.2)
    monkeypatch.setattr(depot, "LEAST_SILENCE_S", 30.0)
    assert not depot.depot_answers()
    wait_for(lambda: silent.asked)
    assert [depot.depot_answers() for _ in range(20)] == [False] * 20
    assert len(silent.asked) == 1
