"""A round round the house: scripts in every text, ways out of every folder, what every page says of itself."""

import zipfile
from html.parser import HTMLParser
from io import BytesIO

import pytest

from nicelevel.desk.doors import new_person
from nicelevel.store.deliverables import deliverables_of
from nicelevel.store.jobs import find_job
from nicelevel.store.journal import acting, enter
from nicelevel.store.sendings import add_sending, save_sending
from nicelevel.store.sources import sources_of
from tests import signals

from .asking import once_counted
from .signing_in import PASSWORD, app_with_accounts, browser_of
from .uploading import JSON, upload, wav

SCRIPT = "<script>alert(1)</script>"
BROKEN_OUT = '"><img src=x onerror=alert(1)>'


@pytest.fixture
def work(client, job, work_off, tmp_path):
    """A job in which every text that somebody or something gives is a script."""
    hostile = SCRIPT + BROKEN_OUT
    client.post(f"/jobs/{job.id}/name", data={"title": hostile}, headers=JSON)
    upload(client, job, f"{hostile.replace('/', '')}.wav", wav(signals.programme(8, seed=2)))
    upload(client, job, f"{SCRIPT.replace('/', '')} broken.wav", b"RIFF0000WAVE")
    work_off()
    client.post(f"/jobs/{job.id}/render", headers=JSON)
    work_off()
    slug = client.post("/specs/podcast/copy", headers=JSON).json["slug"]
    fields = {"spec.name": hostile, "loudness.target": "-20", "loudness.tolerance": "1", "formats.0.container": "wav"}
    assert client.post(f"/specs/{slug}/keep", data=fields, headers=JSON).status_code == 200
    source = sources_of(job.id)[0]
    client.post(f"/sources/{source.id}/prepare/add", data={"do": "gate"}, headers=JSON)
    client.post(f"/sources/{source.id}/prepare/keep", data={"name": hostile[:80]}, headers=JSON)
    client.post(f"/jobs/{job.id}/undo", headers=JSON)
    client.post(f"/jobs/{job.id}/undo", headers=JSON)
    link = client.post(f"/jobs/{job.id}/links", data={"client": hostile[:60]}, headers=JSON).json["address"]
    link = link.removeprefix("http://localhost")
    for number in (1, 2):
        said = {"verdict": "change", "note": hostile, "from_s": "0:01"}
        assert client.post(f"{link}{number}/answer", data=said, headers=JSON).status_code == 200
    told = {"name": hostile[:80], "folder": str(tmp_path), "under": "{title}", "runs": "on", "settle_s": "1"}
    assert client.post("/arrivals/lines/", data=told, headers=JSON).status_code == 200
    new_person(hostile[:60], ["engineer"], PASSWORD)
    with acting(hostile):
        enter(hostile, job.id)
        enter(hostile)
    made = deliverables_of(job.id, ["proved"])[0]
    sending = add_sending(find_job(job.id), "http://127.0.0.1:9/packages")
    answer = {"reasons": [hostile], "files": [{"path": hostile, "accepted": False, "reasons": [hostile]}]}
    save_sending(sending, "rejected", answer=answer, contents=[{"path": hostile, "sha256": made.sha256}])
    ids = {"job": job.id, "source": source.id, "made": made.id, "place": made.destination_id}
    return {**ids, "slug": slug, "link": link}


PAGES = (
    "/",
    "/jobs/{job}",
    "/jobs/{job}/row",
    "/jobs/{job}/parts",
    "/jobs/{job}/spread",
    "/jobs/{job}/handover",
    "/jobs/{job}/handover/parts",
    "/jobs/{job}/journal",
    "/jobs/{job}/rules/",
    "/jobs/{job}/proof",
    "/sources/{source}/reading",
    "/sources/{source}/prepare",
    "/sources/{source}/channels",
    "/sources/{source}/hear",
    "/sources/{source}/compare/{place}",
    "/sources/{source}/close-up/{place}",
    "/deliverables/{made}/proof",
    "/specs/{slug}",
    "/recipes/",
    "/runs",
    "/arrivals/",
    "/arrivals/lines/new",
    "/arrivals/lines/1",
    "/people",
    "/settings",
    "/room",
    "/journal",
    "/api",
    "{link}",
    "{link}1/hear",
    "/jobs/999999",
)


class _Running(HTMLParser):
    def __init__(self):
        super().__init__()
        self.found = []

    def handle_starttag(self, tag, attributes):
        named = dict(attributes)
        is_data = named.get("type") == "application/json"
        if tag == "script" and not is_data and not (named.get("src") or "").startswith("/static/"):
            self.found.append(tag)
        self.found += [name for name in named if name.startswith("on")]
        self.found += [value for value in named.values() if (value or "").strip().lower().startswith("javascript:")]


def running_in(page):
    """Scripts, handlers and addresses that would run."""
    parser = _Running()
    parser.feed(page)
    return parser.found


def test_no_text_of_anybody_becomes_a_part_of_a_page(client, work):
    shown = 0
    for path in PAGES:
        page = once_counted(client, path.format(**work))
        assert "<script>alert" not in page, path
        assert "<img src=x" not in page, path
        # What runs comes from a file of ours: no script and no handler stands in a page itself.
        assert running_in(page) == [], path
        shown += "alert(1)" in page
    assert shown > 15  # they are shown, as text


def test_every_answer_says_where_its_parts_may_come_from(client, work):
    for path in (*PAGES, "/changes", "/api.json", "/health", "/static/now/look.css", "/jobs/{job}/manifest.json"):
        headers = client.get(path.format(**work)).headers
        policy = headers["Content-Security-Policy"]
        assert "default-src 'self'" in policy or "default-src 'none'" in policy, path
        assert "unsafe-eval" not in policy
        assert "script-src 'unsafe-inline'" not in policy
        assert headers["X-Content-Type-Options"] == "nosniff", path
        assert headers["Referrer-Policy"] in ("same-origin", "no-referrer"), path


@pytest.mark.parametrize(
    "name", ["../../../planted.wav", "..\\..\\planted.wav", "/etc/planted.wav", "a/../../planted.wav"]
)
def test_no_name_leads_out_of_its_folder(client, job, work_off, config, name):
    upload(client, job, name, wav(signals.programme(8, seed=2)))
    work_off()
    client.post(f"/jobs/{job.id}/render", headers=JSON)
    work_off()
    package = zipfile.ZipFile(BytesIO(client.get(f"/jobs/{job.id}/package.zip").data))
    for inside in package.namelist():
        assert not inside.startswith("/")
        assert ".." not in inside.split("/")
    outside = [each for each in config.data_folder.parent.rglob("planted*") if config.data_folder not in each.parents]
    assert outside == []


@pytest.mark.parametrize(
    "path",
    [
        "/static/now/../../app.py",
        "/static/now/%2e%2e/%2e%2e/app.py",
        "/static/now/..%2f..%2fconfig.py",
        "/specs/..%2f..%2fconfig.toml",
        "/recipes/..%2fx.toml",
        "/uploads/..%2f..%2fsecrets",
        "/hear/..%2fsource-1/48000/0",
        "/for/..%2f..%2fx/",
        "/invited/..%2f..%2fx",
    ],
)
def test_no_address_leads_out_of_its_folder(client, store, path):
    for method in ("GET", "POST", "PATCH", "DELETE"):
        answer = client.open(path, method=method, headers=JSON)
        assert answer.status_code in (400, 404, 405), (method, answer.status_code)


def test_what_belongs_to_one_link_is_not_had_by_another(config, client, work):
    other = client.post("/jobs", data={"title": "Other"}, headers=JSON).json["id"]
    link = work["link"]
    for number in (0, 3, 99, 987654321):
        if number != 3:
            assert client.get(f"{link}{number}/proof", headers=JSON).status_code == 404
    assert client.post(f"/jobs/{other}/links", data={"client": "x"}, headers=JSON).status_code == 422
    stranger = browser_of(app_with_accounts(config))
    for path in PAGES:
        if not path.startswith("{link}"):
            assert stranger.get(path.format(**work), headers=JSON).status_code == 401, path
