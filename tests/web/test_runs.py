"""Runs: what waits, in which order, how long it takes, what ended; stop and again."""

import re

import pytest

from nicelevel.desk.runs import under_way
from nicelevel.store.database import database
from nicelevel.store.deliverables import deliverables_of
from nicelevel.store.models import Deliverable
from tests import signals

from .uploading import JSON, upload, wav


@pytest.fixture
def sources(client, job, work_off):
    """Two measured sources, nothing rendered."""
    made = [
        upload(client, job, f"{title}.wav", wav(signals.programme(6, seed=seed))).json["source"]
        for seed, title in enumerate(("Night ferry", "Storm"))
    ]
    work_off()
    return made


def _titles(page):
    rows = re.findall(r'<tr data-state="(\w+)" data-deliverable="\d+">.*?<a [^>]*>([^<]+)</a>', page, re.DOTALL)
    return [title for state, title in rows if state in ("queued", "rendering")]


def test_what_waits_is_shown_and_ends_with_the_time_it_took(client, job, sources, work_off):
    assert "Nothing is being rendered" in client.get("/runs").text
    queued = client.post(f"/jobs/{job.id}/render", headers=JSON).json["queued"]
    page = client.get("/runs").text
    assert f"0 being rendered, {queued} waiting" in page
    assert "how long it takes is not known yet" in page
    assert f"{queued} to render" in client.get("/").text
    work_off()
    page = client.get("/runs/parts").text
    assert page.count('data-state="proved"') == queued
    assert len(re.findall(r">\d+\.\d s<", page)) == queued
    made = deliverables_of(job.id)
    assert all(each.queued_at <= each.started_at <= each.finished_at for each in made)


def test_the_time_left_comes_from_what_such_files_took(client, job, sources, work_off, store):
    client.post(f"/jobs/{job.id}/render", data={"source": sources[0]}, headers=JSON)
    work_off()
    database.execute_sql("UPDATE deliverable SET started_at = finished_at - interval '90 seconds'")
    client.post(f"/jobs/{job.id}/render", data={"source": sources[1]}, headers=JSON)
    found = under_way(2, 60)
    assert [round(each.end_s) for each in found.first[:4]] == [90, 90, 180, 180]
    # Of the first two alone: the rest is told from how much there is.
    part = under_way(2, 2)
    assert len(part.first) == 2
    assert (part.rendering, part.waiting) == (0, found.waiting)
    assert part.left_s == pytest.approx(90.0 * found.waiting / 2, rel=0.01)
    assert re.search(r"about <b class=\"fig\">\d+:\d\d</b> left", client.get("/runs").text)


def test_what_is_on_screen_comes_first(client, job, sources, store):
    client.post(f"/jobs/{job.id}/render", headers=JSON)
    assert _titles(client.get("/runs").text)[0] == "Night ferry"
    client.post(f"/jobs/{job.id}/seen", data={"source": sources[1]}, headers=JSON)
    titles = _titles(client.get("/runs").text)
    assert titles == ["Storm"] * (len(titles) // 2) + ["Night ferry"] * (len(titles) // 2)
    best = database.execute_sql(
        "SELECT (args->>'deliverable_id')::bigint FROM procrastinate_jobs WHERE task_name = 'render_deliverable' "
        "ORDER BY priority DESC, id LIMIT 1"
    ).fetchone()[0]
    assert Deliverable.get_by_id(best).source_id == sources[1]
    client.post(f"/jobs/{job.id}/seen", data={"source": sources[0]}, headers=JSON)
    assert _titles(client.get("/runs").text)[0] == "Night ferry"


def test_stop_and_again(client, job, sources, work_off):
    client.post(f"/jobs/{job.id}/render", headers=JSON)
    first = deliverables_of(job.id)[0]
    assert client.post(f"/deliverables/{first.id}/stop", headers=JSON).json == {"stopped": 1}
    assert client.post(f"/deliverables/{first.id}/stop", headers=JSON).json == {"stopped": 0}
    work_off()
    assert Deliverable.get_by_id(first.id).state == "stopped"
    assert client.post(f"/deliverables/{first.id}/again", headers=JSON).json == {"queued": 1}
    assert client.post(f"/deliverables/{first.id}/again", headers=JSON).json == {"queued": 0}
    work_off()
    assert Deliverable.get_by_id(first.id).state == "proved"


def test_stopped_and_done_again_at_once_is_rendered_once(client, job, sources, work_off):
    client.post(f"/jobs/{job.id}/render", headers=JSON)
    for made in deliverables_of(job.id):
        client.post(f"/deliverables/{made.id}/stop", headers=JSON)
        client.post(f"/deliverables/{made.id}/again", headers=JSON)
    work_off()
    assert {each.state for each in deliverables_of(job.id)} == {"proved"}


def test_all_is_stopped_at_once(client, job, sources, work_off):
    queued = client.post(f"/jobs/{job.id}/render", headers=JSON).json["queued"]
    assert client.post("/runs/stop", headers=JSON).json == {"stopped": queued}
    work_off()
    assert {each.state for each in deliverables_of(job.id)} == {"stopped"}
    assert "data-again" in client.get("/runs").text


def test_a_failed_file_says_why_and_stops_nothing(client, job, sources, work_off, store):
    client.post(f"/jobs/{job.id}/render", headers=JSON)
    broken = deliverables_of(job.id)[0].source
    store.audio_path(broken.digest).unlink()
    work_off()
    states = {(each.source_id == broken.id, each.state) for each in deliverables_of(job.id)}
    assert states == {(True, "failed"), (False, "proved")}
    page = client.get("/runs").text
    assert "failed</span> " in page
