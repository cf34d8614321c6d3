"""The interface for programs: described as it is, and answered in JSON with what the pages show."""

import pytest
from openapi_spec_validator import validate

from nicelevel.core.measure import measure
from nicelevel.report.as_json import reading_json
from nicelevel.store.deliverables import deliverables_of
from nicelevel.store.sources import sources_of
from tests import signals

from .signing_in import app_with_accounts, browser_of
from .uploading import JSON, upload, wav


@pytest.fixture
def document(client, store):
    return client.get("/api.json").json


@pytest.fixture
def work(client, job, work_off):
    upload(client, job, "Night ferry.wav", wav(signals.programme(9, seed=2)))
    work_off()
    client.post(f"/jobs/{job.id}/render", headers=JSON)
    work_off()
    return job


def test_it_is_openapi_as_the_standard_has_it(document):
    validate(document)  # by the schema of the OpenAPI Initiative, 3.1


def test_every_address_by_every_method_is_in_it_with_a_sentence(app, document):
    there = {
        (rule.rule.replace("<int:", "{").replace("<path:", "{").replace("<", "{").replace(">", "}"), method)
        for rule in app.url_map.iter_rules()
        for method in rule.methods - {"HEAD", "OPTIONS"}
        if rule.endpoint != "static"
    }
    told = {(path, method.upper()) for path, methods in document["paths"].items() for method in methods}
    assert there <= told
    mute = [
        (path, method)
        for path, methods in document["paths"].items()
        for method, each in methods.items()
        if not each["summary"].strip() and method != "head"
    ]
    assert mute == []


def test_fields_and_rights_are_those_of_the_code(document):
    """A few whose fields are read in different ways: at once, by another function, under another name, as a body."""
    form = "application/x-www-form-urlencoded"

    def asked(path, method="post"):
        content = document["paths"][path][method]["requestBody"]["content"]
        return content[form]["schema"]["properties"] if form in content else content

    assert asked("/jobs") == {"title": {"type": "string"}, "due_on": {"type": "string"}}
    assert asked("/jobs/{job_id}/render") == {
        "source": {"type": "array", "items": {"type": "integer"}},
        "destination": {"type": "integer"},
    }
    assert set(asked("/for/{link}/{number}/answer")) == {"verdict", "note", "from_s"}
    assert set(asked("/jobs/{job_id}/contributions")) >= {"address", "start", "frame-rate", "guard-s", "file"}
    assert set(asked("/jobs/{job_id}/sources")) == {"application/octet-stream"}
    query = {each["name"]: each for each in document["paths"]["/jobs/{job_id}/sources"]["post"]["parameters"]}
    assert {"name", "changed", "replaces", "job_id"} <= set(query)
    assert document["paths"]["/people"]["get"]["x-right"] == "operate"
    assert document["paths"]["/jobs"]["post"]["x-right"] == "change"
    assert document["paths"]["/for/{link}/"]["get"]["security"] == []


def test_answers_have_the_keys_that_are_told(client, work, document):
    source, made = sources_of(work.id)[0], deliverables_of(work.id, ["proved"])[0]
    calls = [
        ("GET", "/", {}),
        ("GET", "/jobs/{job_id}", {"job_id": work.id}),
        ("GET", "/jobs/{job_id}/links", {"job_id": work.id}),
        ("GET", "/jobs/{job_id}/journal", {"job_id": work.id}),
        ("GET", "/jobs/{job_id}/proof.json", {"job_id": work.id}),
        ("GET", "/jobs/{job_id}/order", {"job_id": work.id}),
        ("GET", "/specs/", {}),
        ("GET", "/recipes/", {}),
        ("GET", "/arrivals/", {}),
        ("GET", "/runs", {}),
        ("GET", "/journal", {}),
        ("GET", "/health", {}),
        ("POST", "/jobs", {}),
        ("POST", "/jobs/{job_id}/render", {"job_id": work.id}),
        ("POST", "/deliverables/{deliverable_id}/again", {"deliverable_id": made.id}),
        ("POST", "/deliverables/{deliverable_id}/stop", {"deliverable_id": made.id}),
        ("POST", "/specs/{slug}/copy", {"slug": "podcast"}),
        ("POST", "/sources/{source_id}/remove", {"source_id": source.id}),
        ("POST", "/jobs/{job_id}/undo", {"job_id": work.id}),
    ]
    for method, path, values in calls:
        answer = client.open(path.format(**values), method=method, headers=JSON)
        operation = document["paths"][path][method.lower()]
        schema = operation["responses"]["200"]["content"]["application/json"]["schema"]
        assert answer.is_json, (method, path)
        assert set(answer.json) == set(schema["properties"]), (method, path)
    refused = client.get("/jobs/999999", headers=JSON).json
    assert set(refused) == {"error"}
    assert set(refused["error"]) == {"code", "message"}


def test_a_board_for_programs_has_what_was_measured_planned_and_proved(client, work, tmp_path):
    board = client.get(f"/jobs/{work.id}", headers=JSON).json
    (source,) = board["sources"]
    own = reading_json(measure(signals.write(tmp_path / "x.wav", signals.programme(9, seed=2))))
    for key in ("integrated_lufs", "true_peak_dbtp", "loudness_range_lu", "sample_rate", "duration_s"):
        assert source["reading"][key] == pytest.approx(own[key], abs=1e-6)
    assert [each["slug"] for each in board["destinations"]] == [
        each["slug"] for each in board["destinations"] if each["id"] in [p["destination"] for p in source["places"]]
    ]
    proved = {each.sha256 for each in deliverables_of(work.id, ["proved"])}
    assert {made["sha256"] for place in source["places"] for made in place["deliverables"]} == proved
    assert all(place["plan"]["predicted"]["integrated_lufs"] < 0 for place in source["places"] if place["plan"])
    # A browser, and who does not say, gets the page.
    assert client.get(f"/jobs/{work.id}").mimetype == "text/html"
    assert client.get(f"/jobs/{work.id}", headers={"Accept": "text/html,*/*;q=0.8"}).mimetype == "text/html"
    assert "Accept" in client.get("/").headers["Vary"]


def test_the_page_for_people_names_every_address(config, store, document):
    page = browser_of(app_with_accounts(config), "One", ("listener",)).get("/api").text
    for path in document["paths"]:
        assert f">{path}</span>" in page.replace("&lt;", "<").replace("&gt;", ">")
