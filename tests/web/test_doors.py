"""Who may ask for a change, and two who change one spec at once."""

import re

import pytest

from nicelevel.store.specs import keep_version, known_spec
from nicelevel.web import create_app
from tests.web.test_handover import FOLDERS

from .uploading import JSON


@pytest.fixture
def strict(config):
    """The application with its tokens, and one of them."""
    client = create_app(config, config.database_url).test_client()
    token = re.search(r'csrf-token" content="([^"]+)"', client.get("/runs").text).group(1)
    return client, {**JSON, "X-CSRFToken": token}


def test_a_change_needs_the_token_of_a_page(strict):
    client, headers = strict
    assert client.post("/jobs", data={"title": "Work"}, headers=JSON).status_code == 400
    assert client.post("/jobs", data={"title": "Work"}, headers=headers).status_code == 200


@pytest.mark.parametrize(
    ("name", "value"), [("Origin", "http://elsewhere.example"), ("Origin", "null"), ("Sec-Fetch-Site", "cross-site")]
)
def test_a_token_is_of_no_use_to_another_site(strict, name, value):
    client, headers = strict
    answer = client.post("/jobs", data={"title": "Work"}, headers={**headers, name: value})
    assert (answer.status_code, answer.json["error"]["code"]) == (403, "foreign")
    headers["Origin"] = "http://localhost"
    assert client.post("/jobs", data={"title": "Work"}, headers=headers).status_code == 200


def test_each_data_folder_has_a_cookie_of_its_own(config, tmp_path):
    from dataclasses import replace

    names = set()
    for folder in (config.data_folder, tmp_path / "other"):
        app = create_app(replace(config, data_folder=folder), config.database_url)
        names.add(app.config["SESSION_COOKIE_NAME"])
    assert len(names) == 2
    assert "session" not in names


def test_the_second_of_two_editors_is_told_and_nothing_is_lost(client, job):
    keep_version("lamp-room", FOLDERS)
    fields = {
        "spec.name": "Lamp room",
        "loudness.target": "-20",
        "loudness.tolerance": "0.5",
        "formats.0.container": "wav",
        "made_from": "1",
    }
    assert client.post("/specs/lamp-room/keep", data={**fields, "loudness.target": "-21"}).json["version"] == 2
    late = client.post("/specs/lamp-room/keep", data={**fields, "loudness.target": "-22"}, headers=JSON)
    assert (late.status_code, late.json["error"]["code"]) == (409, "conflict")
    assert "Version 2 was kept meanwhile" in late.json["error"]["message"]
    assert known_spec("lamp-room").spec.loudness.target == -21.0
    again = client.post("/specs/lamp-room/keep", data={**fields, "loudness.target": "-22", "over": "1"}, headers=JSON)
    assert again.json["version"] == 3


@pytest.mark.parametrize(
    ("path", "fields"),
    [
        ("/jobs", {"title": "a\0b"}),
        ("/specs/podcast/draft", {"spec.name": "a\0"}),
        ("/specs/podcast/draft", {"a\0b": "1"}),
        ("/specs/a%00b/draft", {"spec.name": "x"}),
        ("/jobs?x=%00", {"title": "x"}),
    ],
)
def test_a_sign_that_cannot_be_kept_is_refused_with_a_sentence(client, path, fields):
    answer = client.post(path, data=fields, headers=JSON)
    assert (answer.status_code, answer.json["error"]["code"]) == (422, "unkeepable")
    assert client.get("/specs/a%00b", headers=JSON).status_code == 422


@pytest.mark.parametrize(
    "fields",
    [
        {"limits.max_size_bytes": "1e999"},
        {"limits.max_size_bytes": "nan"},
        {"limits.max_size_bytes": "1e300"},
        {"formats.x.container": "wav"},
        {"formats.0": "wav"},
        {"formats.99999999999.container": "wav"},
        {"nonsense.key": "1"},
        {"loudness.target": "1e999"},
        {"formats.0.sample_rate": "1e40"},
        {"method.look_ahead_ms": "inf"},
    ],
)
def test_whatever_a_field_says_it_is_a_sentence(client, fields):
    base = {"spec.name": "x", "loudness.target": "-20", "loudness.tolerance": "1", "formats.0.container": "wav"}
    answer = client.post("/specs/podcast/draft", data={**base, **fields}, headers=JSON)
    assert (answer.status_code, answer.json["error"]["code"]) == (422, "spec")
    assert "\n" not in answer.json["error"]["message"]
