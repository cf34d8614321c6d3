"""What takes room, what goes by itself and when, and letting go of it at once."""

import re
from datetime import UTC, datetime, timedelta

import pytest

from nicelevel.desk.hearing import HEARD_COPY
from nicelevel.store.audio import size_of
from nicelevel.store.models import Source
from nicelevel.store.sources import sources_of
from tests import signals

from .uploading import JSON, upload, wav


def rooms(client):
    return {each["name"]: each for each in client.get("/room", headers=JSON).json["kinds"]}


@pytest.fixture
def work(client, job, work_off):
    # Of 48 kHz something is prepared for it, and kept.
    client.post(f"/jobs/{job.id}/destinations", data={"slug": "compact-disc"}, headers=JSON)
    for name, seed in (("Night ferry.wav", 2), ("Day ferry.wav", 3)):
        upload(client, job, name, wav(signals.programme(9, seed=seed)))
    work_off()
    client.post(f"/jobs/{job.id}/render", data={"source": sources_of(job.id)[0].id}, headers=JSON)
    work_off()
    return job


def test_all_that_lies_in_the_folders_is_told_once(client, work, config):
    found = rooms(client)
    kinds = ("Sources, and what was measured of them", "What was measured of prepared signals", "Copies for hearing")
    audio_and_made = sum(found[each]["size_bytes"] for each in (*kinds, "Deliverables"))
    assert audio_and_made == size_of(config.audio_folder) + size_of(config.deliverables_folder)
    assert found["What was measured of prepared signals"]["size_bytes"] > 0
    assert found["Deliverables"]["size_bytes"] > 1_000_000


def test_copies_for_hearing_go_at_once_and_nothing_else(client, work, config):
    before = size_of(config.audio_folder)
    (place,) = {each.parent for each in config.deliverables_folder.rglob("*.mp3")}
    (place / HEARD_COPY).write_bytes(b"copied" * 5000)
    assert rooms(client)["Copies for hearing"]["size_bytes"] >= 30_000
    assert client.post("/room/copies", headers=JSON).json["freed_bytes"] >= 30_000
    assert not (place / HEARD_COPY).exists()
    assert list(place.glob("*.mp3"))
    assert size_of(config.audio_folder) == before
    assert "let go of copies" in client.get("/journal").text


def test_the_trash_says_when_it_goes_and_goes_at_once_where_it_is_told_to(client, work):
    assert "The trash" in rooms(client)
    page = client.get("/room").text
    assert "Empty it for good" not in page
    client.post(f"/sources/{sources_of(work.id)[0].id}/remove", headers=JSON)
    since = datetime.now(UTC) - timedelta(days=10)
    Source.update(trashed_at=since).where(Source.trashed_at.is_null(False)).execute()
    trash = rooms(client)["The trash"]
    assert trash["size_bytes"] > 1_000_000
    goes = (since.astimezone() + timedelta(days=30)).strftime("%-d %B")
    assert f"the first on {goes}" in trash["goes"]
    page = client.get("/room").text
    assert "Empty it for good" in page
    assert re.search(r"1 source\b", page)
    answer = client.post("/trash/empty", headers={"Accept": "text/html"})
    assert (answer.status_code, answer.location) == (302, "/room")
    assert rooms(client)["The trash"]["size_bytes"] == 0
