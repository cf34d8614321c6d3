"""Routes, by Flask's own client: pages, parts, uploads, downloads, refusals."""

import hashlib
import io
import re
import zipfile
from dataclasses import replace

import pytest

from nicelevel.core.specs import shipped_specs
from nicelevel.core.specs.library import shipped_toml
from nicelevel.store.deliverables import deliverables_of
from nicelevel.store.jobs import destinations_of
from nicelevel.store.models import Deliverable, Source
from nicelevel.store.sources import sources_of
from nicelevel.web import create_app
from nicelevel.web.errors import OTHER_NAME
from nicelevel.web.security import POLICY
from nicelevel.work import tasks
from tests import signals

from .asking import once_counted
from .uploading import JSON, upload, wav


def test_a_new_job_has_the_four_destinations_that_ship(client, job):
    page = client.get(f"/jobs/{job.id}").text
    for spec in shipped_specs().values():
        assert spec.spec.name in page


def test_an_upload_is_measured_and_its_row_shows_the_figures(client, job, work_off):
    assert upload(client, job, "mix.wav", wav(signals.both(signals.sine(1000, -23, 5)))).status_code == 200
    assert "waiting to be measured" in client.get(f"/jobs/{job.id}").text
    work_off()
    parts = client.get(f"/jobs/{job.id}/parts").text
    assert 'data-state="measured"' in parts
    assert "−23.0" in parts
    assert "stereo · 48k/24 · 0:05.0" in parts


def test_parts_hold_only_the_rows_asked_for(client, job, work_off):
    ids = [upload(client, job, f"{n}.wav", wav(signals.noise(1, seed=n))).json["source"] for n in range(3)]
    parts = client.get(f"/jobs/{job.id}/parts?source={ids[1]}").text
    assert re.findall(r'id="source-(\d+)"', parts) == [str(ids[1])]
    assert 'id="summary"' in parts


@pytest.mark.parametrize("name", ["../../../etc/passwd", "..\\..\\boot.ini", "/abs/mix.wav", "", "a\0b.wav"])
def test_file_names_cannot_escape(client, job, store, work_off, config, name):
    answer = upload(client, job, name, wav(signals.noise(2, -23)))
    assert answer.status_code == 200
    work_off()
    client.post(f"/jobs/{job.id}/render", headers=JSON)
    work_off()
    inside = config.data_folder.resolve()
    made = deliverables_of(job.id)
    assert made
    for each in made:
        assert each.state == "proved"
        assert "/" not in each.file_name
        assert (config.deliverables_folder / str(each.id) / each.file_name).resolve().is_relative_to(inside)


def test_an_upload_that_breaks_off_leaves_nothing(client, job, config):
    answer = client.post(
        f"/jobs/{job.id}/sources?name=mix.wav",
        input_stream=io.BytesIO(b"short"),
        environ_overrides={"CONTENT_LENGTH": "1000"},
        headers=JSON,
    )
    assert answer.status_code >= 400
    assert Source.select().count() == 0
    assert list(config.uploads_folder.iterdir()) == []


def test_a_file_too_large_is_refused_with_a_sentence(app, client, job):
    app.config["MAX_CONTENT_LENGTH"] = 1_000_000
    answer = upload(client, job, "mix.wav", b"\0" * 1_000_001)
    assert answer.status_code == 413
    assert answer.json["error"]["message"] == "The file is larger than the 1.0 MB that are taken in."


def test_a_bad_file_has_its_sentence_in_its_row_and_its_close_up(client, job, work_off):
    source = upload(client, job, "notes.wav", b"no audio").json["source"]
    work_off()
    assert "This is not an audio file" in client.get(f"/jobs/{job.id}/parts").text
    destination = re.search(r"/destinations/(\d+)/remove", client.get(f"/jobs/{job.id}").text).group(1)
    assert "This is not an audio file" in client.get(f"/sources/{source}/close-up/{destination}").text


def test_the_close_up_says_why_and_draws_both_curves(client, job, work_off):
    upload(client, job, "mix.wav", wav(signals.programme(12)))
    work_off()
    page = client.get(f"/jobs/{job.id}").text
    close_up = client.get(re.search(r'data-close-up="([^"]+)"', page).group(1) + "?width=500&height=200").text
    assert 'viewBox="0 0 500 200"' in close_up
    assert "brings the programme from" in close_up
    assert close_up.count('class="curve') == 2


def test_the_price_curve_comes_where_a_limiter_could_help(client, job, work_off):
    upload(client, job, "mix.wav", wav(signals.drums(4)))
    work_off()
    source, places = sources_of(job.id)[0], destinations_of(job.id)
    curves = [client.get(f"/sources/{source.id}/price/{place.id}").text for place in places]
    assert ["What loudness costs" in curve for curve in curves] == [True, True, True, False]
    assert "The first 3 dB of limiting bring" in curves[0]


def test_a_source_has_its_own_target_and_the_specs_again(client, job, work_off):
    upload(client, job, "mix.wav", wav(signals.noise(4, -30)))
    work_off()
    source, place = sources_of(job.id)[0], destinations_of(job.id)[0]
    address = f"/sources/{source.id}/target/{place.id}"
    client.post(address, data={"target": "-27.5"}, headers=JSON)
    assert "to −27.5" in client.get(f"/jobs/{job.id}/parts").text
    client.post(f"/jobs/{job.id}/render", data={"destination": place.id}, headers=JSON)
    work_off()
    made = Deliverable.get(Deliverable.destination == place.id)
    assert made.measured["integrated_lufs"] == pytest.approx(-27.5, abs=0.05)
    assert made.findings[0]["required"] == [-28.0, -27.0]
    refused = client.post(address, data={"target": "9"}, headers=JSON)
    assert "loudness.target" in refused.json["error"]["message"]
    assert "to −27.5" not in client.post(address, headers=JSON).text
    assert 'data-state="gain"' in client.get(f"/jobs/{job.id}/parts").text


def test_render_download_and_package(client, job, work_off, store, config):
    upload(client, job, "mix.wav", wav(signals.both(signals.sine(1000, -23, 3))))
    upload(client, job, "MIX.wav", wav(signals.both(signals.sine(1000, -24, 3))))
    work_off()
    assert client.post(f"/jobs/{job.id}/render", headers=JSON).json == {"queued": 8, "held": 0, "coming": 0}
    assert client.post(f"/jobs/{job.id}/render", headers=JSON).json == {"queued": 0, "held": 0, "coming": 0}
    work_off()
    made = deliverables_of(job.id)
    assert {each.state for each in made} == {"proved"}
    answer = client.get(f"/deliverables/{made[0].id}/file")
    assert hashlib.sha256(answer.data).hexdigest() == made[0].sha256
    assert made[0].file_name in answer.headers["Content-Disposition"]
    package = zipfile.ZipFile(io.BytesIO(client.get(f"/jobs/{job.id}/package.zip").data))
    assert package.testzip() is None
    lines = [line.split("  ") for line in package.read("SHA256SUMS.txt").decode().splitlines()]
    assert len(lines) == 8
    for digest, name in lines:
        assert package.getinfo(name).compress_type == zipfile.ZIP_STORED
        assert hashlib.sha256(package.read(name)).hexdigest() == digest


def test_rendering_can_be_asked_for_one_cell_and_again(client, job, work_off, store):
    source = upload(client, job, "mix.wav", wav(signals.noise(2, -23))).json["source"]
    work_off()
    destination = re.search(r"/destinations/(\d+)/remove", client.get(f"/jobs/{job.id}").text).group(1)
    one = {"source": source, "destination": destination}
    for _ in range(2):
        told = client.post(f"/jobs/{job.id}/render", data=one, headers=JSON).json
        assert told == {"queued": 1, "held": 0, "coming": 0}
        work_off()
    assert Deliverable.select().count() == 1


def test_what_has_no_plan_yet_when_rendering_is_asked_for_is_counted(client, job, work_off, monkeypatch):
    def rendered(**fields):
        told = client.post(f"/jobs/{job.id}/render", data=fields, headers=JSON).json
        return told["queued"], told["coming"]

    monkeypatch.setattr(tasks, "defer_preparations", lambda *_: None)
    client.post(f"/jobs/{job.id}/destinations", data={"slug": "compact-disc"})
    upload(client, job, "mix.wav", wav(signals.noise(4, -23)))
    places = destinations_of(job.id)
    assert rendered() == (0, len(places))
    work_off()  # measured; what is resampled for one of them is not
    assert client.get(f"/jobs/{job.id}").text.count("its plan follows") == 1
    (source,) = client.get(f"/jobs/{job.id}", headers=JSON).json["sources"]
    assert [each["is_coming"] for each in source["places"]] == [False] * (len(places) - 1) + [True]
    assert rendered() == (len(places) - 1, 1)
    asked = [rendered(destination=each.id) for each in places]
    assert sorted(asked) == [(0, 0)] * (len(places) - 1) + [(0, 1)]


def test_stopping_stops_what_waits(client, job, work_off, store):
    upload(client, job, "mix.wav", wav(signals.noise(2, -23)))
    work_off()
    client.post(f"/jobs/{job.id}/render", headers=JSON)
    assert client.post(f"/jobs/{job.id}/stop", headers=JSON).json == {"stopped": 4}
    work_off()
    assert {each.state for each in deliverables_of(job.id)} == {"stopped"}


def test_destinations_are_removed_and_added(client, job):
    page = client.get(f"/jobs/{job.id}").text
    first = re.search(r"/destinations/(\d+)/remove", page).group(1)
    client.post(f"/destinations/{first}/remove")
    page = client.get(f"/jobs/{job.id}").text
    assert len(re.findall(r"/destinations/\d+/remove", page)) == 3
    slug = re.search(r'name="slug" value="([^"]+)"', page).group(1)
    client.post(f"/jobs/{job.id}/destinations", data={"slug": slug})
    assert len(re.findall(r"/destinations/\d+/remove", client.get(f"/jobs/{job.id}").text)) == 4


def test_a_source_is_taken_out_of_the_job(client, job, work_off, store, config):
    source = upload(client, job, "mix.wav", wav(signals.noise(2, -23))).json["source"]
    work_off()
    client.post(f"/jobs/{job.id}/render", headers=JSON)
    work_off()
    assert list(config.deliverables_folder.iterdir())
    client.post(f"/sources/{source}/remove", headers=JSON)
    assert f'id="source-{source}"' not in client.get(f"/jobs/{job.id}").text
    assert list(config.deliverables_folder.iterdir())
    assert "In the trash: 1 source" in client.get("/").text
    assert client.post("/trash/empty", headers=JSON).json["freed_bytes"] > 100_000
    assert list(config.deliverables_folder.iterdir()) == []
    assert "In the trash" not in client.get("/").text


@pytest.mark.parametrize(
    "address", ["/jobs/999", "/jobs/999/parts", "/deliverables/1/file", "/specs/nope.toml", "/jobs/1/../../etc"]
)
def test_what_is_not_there_is_404_with_a_sentence(client, store, address):
    answer = client.get(address)
    assert answer.status_code == 404
    assert "nothing at this address" in answer.text


def test_the_list_of_jobs_says_what_is_late(client, store):
    client.post("/jobs", data={"title": "Late work", "due_on": "2020-01-31"})
    listed = client.get("/").text
    assert "Late work" in listed
    (row,) = re.findall(r'data-row="([^"]+)"', listed)
    assert "· late" not in once_counted(client, row)  # nothing is to be rendered yet
    assert client.post("/jobs", data={"title": "x", "due_on": "soon"}, headers=JSON).status_code == 422


def test_requests_without_the_pages_token_are_refused(config):
    strict = create_app(config, config.database_url).test_client()
    answer = strict.post("/jobs", data={"title": "x"}, headers=JSON)
    assert answer.status_code == 400
    assert "reload" in answer.json["error"]["message"]


def test_requests_for_another_host_are_refused(client, store):
    for accepted, kind in (("text/html", "text/plain"), ("application/json", "application/json")):
        answer = client.get("/", headers={"Host": "elsewhere.example", "Accept": accepted})
        assert (answer.status_code, answer.mimetype) == (400, kind)
        assert "NICE_LEVEL_HOSTS" in answer.text


def test_the_names_that_are_answered_to_are_a_setting(config, store):
    named = create_app(replace(config, hosts=("studio.example",)), config.database_url).test_client()
    assert named.get("/", headers={"Host": "studio.example"}).status_code == 200
    assert named.get("/", headers={"Host": "127.0.0.1"}).status_code == 400


@pytest.mark.parametrize("path", ["/", "/jobs/1", "/nothing/here", "/static/now/look.css", "/health"])
def test_other_names_get_the_same_sentence_where_people_sign_in(config, store, path):
    named = create_app(replace(config, hosts=("studio.example",), accounts=True), config.database_url).test_client()
    answer = named.get(path, headers={"Host": "127.0.0.1", "Accept": "text/html"})
    assert (answer.status_code, answer.text) == (400, OTHER_NAME)


def test_the_list_of_jobs_comes_before_anything_is_planned(client, job, monkeypatch):
    def planned(*_):
        raise AssertionError("a plan was made")

    monkeypatch.setattr("nicelevel.web.jobs.board_of", planned)
    assert job.title in client.get("/").text
    monkeypatch.undo()
    row = once_counted(client, f"/jobs/{job.id}/row")
    assert f'id="job-{job.id}"' in row
    assert "data-row" not in row


def test_every_answer_carries_the_policy_and_no_page_has_inline_code(client, job):
    for address in ("/", f"/jobs/{job.id}", "/specs/"):
        answer = client.get(address)
        assert answer.headers["Content-Security-Policy"] == POLICY
        assert not re.search(r"<script(?![^>]*src=)", answer.text)
        assert " style=" not in answer.text
        assert not re.search(r'(?:src|href|action)="https?:', answer.text)


def test_specs_are_downloaded_as_they_are(client, store):
    assert client.get("/specs/", follow_redirects=True).status_code == 200
    assert client.get("/specs/podcast.toml").data.decode() == shipped_toml("podcast")
    assert client.get("/specs/nothing.toml").status_code == 404
