"""The receiving desk: takes what is whole and meets its own copies of the specs, and says why not of the rest."""

import hashlib
import io
import json
import re
import time
import zipfile

import pytest

from nicelevel.core.specs import shipped_specs
from nicelevel.stand_ins.receiving_desk.app import create_desk
from tests import signals


@pytest.fixture
def desk(tmp_path):
    return create_desk(tmp_path / "desk").test_client()


def _package(files, manifest=None):
    body = io.BytesIO()
    with zipfile.ZipFile(body, "w") as package:
        for name, data in files.items():
            package.writestr(name, data)
        if manifest is not None:
            package.writestr("manifest.json", json.dumps(manifest))
    return body.getvalue()


def _row(name, data, slug="speech", level_of=None):
    return {"path": name, "sha256": hashlib.sha256(data).hexdigest(), "spec": {"slug": slug}, "level_of": level_of}


def _answer(desk, body):
    taken = desk.post("/packages", data=body, content_type="application/zip")
    assert taken.status_code == 202
    end = time.monotonic() + 60
    while time.monotonic() < end:
        answer = desk.get(taken.json["receipt"]).json
        if answer["state"] != "checking":
            return answer
        time.sleep(0.05)
    raise AssertionError("no answer")


SPEECH = """
[spec]
name = "Speech"
source = "house rule"
[loudness]
measure = "integrated"
target = -16.0
tolerance = 0.5
[limits]
max_true_peak_dbtp = -1.0
[[formats]]
container = "wav"
encoding = "pcm_16"
"""


@pytest.fixture
def speech(desk, tmp_path):
    copy = tmp_path / "desk" / "specs" / "speech.toml"
    copy.write_text(SPEECH)
    return copy


def _at(tmp_path, level_lufs, name="take.wav"):
    """A 1 kHz tone in both channels reads what its peaks are, in LUFS (EBU Tech 3341, case 1)."""
    tone = signals.tone_steps([(level_lufs, 5)])
    return signals.write(tmp_path / name, tone, subtype="PCM_16").read_bytes()


def test_what_meets_its_spec_is_accepted(desk, speech, tmp_path):
    data = _at(tmp_path, -16.0)
    answer = _answer(desk, _package({"a/take.wav": data}, {"files": [_row("a/take.wav", data)]}))
    assert answer["state"] == "accepted"
    assert answer["files"] == [{"path": "a/take.wav", "accepted": True, "reasons": []}]
    assert "stand-in" in answer["desk"]


def test_the_desks_own_copy_counts_and_says_why(desk, speech, tmp_path):
    data = _at(tmp_path, -16.0)
    speech.write_text(SPEECH.replace("-16.0", "-23.0"))
    answer = _answer(desk, _package({"take.wav": data}, {"files": [_row("take.wav", data)]}))
    assert answer["state"] == "rejected"
    (reason,) = answer["files"][0]["reasons"]
    assert re.fullmatch(r"asked integrated −23\.0 ±0\.5 LUFS, found −1(5\.99|6\.0[01])", reason)


def test_a_stem_takes_its_level_from_its_mix(desk, speech, tmp_path):
    data = _at(tmp_path, -30.0)
    alone = _answer(desk, _package({"stem.wav": data}, {"files": [_row("stem.wav", data)]}))
    assert alone["state"] == "rejected"
    member = _answer(desk, _package({"stem.wav": data}, {"files": [_row("stem.wav", data, level_of="Mix")]}))
    assert member["state"] == "accepted"


@pytest.mark.parametrize(
    ("change", "reason"),
    [
        (lambda files, row: row.update(sha256="0" * 64), "its SHA-256 is not the one in the manifest"),
        (lambda files, row: row.update(spec={"slug": "unknown"}), "the desk has no copy of the spec “unknown”"),
        (lambda files, row: row.update(spec={"slug": "../../secret"}), "the desk has no copy of the spec"),
        (lambda files, row: files.pop("take.wav"), "named in the manifest, but not in the package"),
    ],
)
def test_a_file_that_is_not_what_the_manifest_says(desk, speech, tmp_path, change, reason):
    data = _at(tmp_path, -16.0)
    files, row = {"take.wav": data}, _row("take.wav", data)
    change(files, row)
    answer = _answer(desk, _package(files, {"files": [row]}))
    assert answer["state"] == "rejected"
    assert answer["files"][0]["reasons"][0].startswith(reason)


def test_what_is_no_audio_is_named(desk, speech):
    data = b"not a sound"
    answer = _answer(desk, _package({"take.wav": data}, {"files": [_row("take.wav", data)]}))
    assert "not an audio file" in answer["files"][0]["reasons"][0]


@pytest.mark.parametrize(
    ("body", "reason"),
    [
        (b"PK but not for long", "no zip"),
        (_package({"take.wav": b"x"}), "There is no manifest.json"),
        (_package({}, {"files": []}), "names no file"),
        (_package({}, {"files": [{"path": "a"}]}), "cannot be read"),
        (_package({}, ["a"]), "cannot be read"),
        (_package({"late.wav": b"x"}, {"files": []}), "late.wav is in the package but not in its manifest"),
    ],
)
def test_a_package_that_is_not_whole(desk, body, reason):
    answer = _answer(desk, body)
    assert answer["state"] == "rejected"
    assert any(reason in each for each in answer["reasons"])


def test_what_is_no_package_is_turned_away(desk):
    refused = desk.post("/packages", data=b"hello", content_type="text/plain")
    assert refused.status_code == 415
    assert "zip" in refused.json["message"]
    assert desk.get("/packages/0123456789abcdef").status_code == 404


def test_a_desk_that_was_stopped_goes_on_with_what_waits(tmp_path):
    place = tmp_path / "desk" / "inbox" / "waiting"
    place.mkdir(parents=True)
    (place / "package.zip").write_bytes(_package({}, {"files": []}))
    client = create_desk(tmp_path / "desk").test_client()
    end = time.monotonic() + 30
    while client.get("/packages/waiting").json["state"] == "checking" and time.monotonic() < end:
        time.sleep(0.05)
    assert client.get("/packages/waiting").json["state"] == "rejected"
    assert not (place / "package.zip").exists()


def test_own_copies_are_made_once(tmp_path):
    create_desk(tmp_path / "desk")
    specs = tmp_path / "desk" / "specs"
    assert {path.stem for path in specs.glob("*.toml")} == set(shipped_specs())
    (specs / "podcast.toml").unlink()
    (specs / "compact-disc.toml").write_text("changed")
    create_desk(tmp_path / "desk")
    assert not (specs / "podcast.toml").exists()
    assert (specs / "compact-disc.toml").read_text() == "changed"


def test_what_would_unpack_to_far_more_than_it_is_is_not_unpacked(desk, speech):
    body = io.BytesIO()
    with zipfile.ZipFile(body, "w", zipfile.ZIP_DEFLATED) as package:
        package.writestr("take.wav", bytes(50_000_000))
        package.writestr("manifest.json", json.dumps({"files": []}))
    answer = _answer(desk, body.getvalue())
    assert answer["state"] == "rejected"
    assert "would unpack to 50000000 bytes" in answer["reasons"][0]


def test_the_desk_answers_to_its_own_name_alone(desk):
    assert desk.get("/", headers={"Host": "elsewhere.example"}).status_code == 400
    assert desk.get("/", headers={"Host": "localhost:8418"}).status_code == 200
