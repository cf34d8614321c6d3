"""What a server does beforehand changes nothing of what it shows, and no fault in it ends the server."""

import pytest

from nicelevel.desk import roll
from nicelevel.store.jobs import make_job
from nicelevel.store.sources import add_source
from nicelevel.web import getting_ready
from nicelevel.web.getting_ready import get_ready_beside

SOON_S = 60.0


def ready(app):
    thread = get_ready_beside(app)
    thread.join(SOON_S)
    assert not thread.is_alive()


@pytest.fixture
def made(monkeypatch):
    make, sizes = roll._make, []
    monkeypatch.setattr(roll, "_make", lambda sources, audio: (sizes.append(len(sources)), make(sources, audio))[1])
    return sizes


def test_every_template_is_compiled_and_the_newest_jobs_are_read(app, client, store, made):
    for count in (1, 2, 3):
        job = make_job(f"With {count}")
        for number in range(count):
            add_source(job.id, f"{number}.wav", "0" * 64, 100)
    ready(app)
    assert made == [3, 2, 1]
    assert "3 sources" in client.get(f"/jobs/{job.id}").text
    assert made == [3, 2, 1]
    assert len(app.jinja_env.cache) == len(app.jinja_env.list_templates())


def test_no_more_is_read_than_there_is_use_for(app, store, made, monkeypatch):
    monkeypatch.setattr(getting_ready, "MOST_SOURCES", 1)
    for _ in range(3):
        job = make_job("Work")
        add_source(job.id, "a.wav", "0" * 64, 100)
    ready(app)
    assert made == [1, 1]


def test_what_goes_wrong_there_is_written_down_and_ends_nothing(app, client, monkeypatch, caplog):
    def fails():
        raise OSError("the disk is away")

    monkeypatch.setattr(getting_ready, "all_jobs", fails)
    ready(app)
    assert "could not be read beforehand" in caplog.text
    assert client.get("/").status_code == 200
