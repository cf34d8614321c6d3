"""The Handover screen: what is in the package, what is kept out and why, its papers."""

import hashlib
import io
import json
import re

import numpy as np
import pytest
import soundfile

from nicelevel.core.contribution import told_by
from nicelevel.core.programmes import programmes_of
from nicelevel.store.deliverables import deliverables_of, file_of
from nicelevel.store.jobs import add_destination
from nicelevel.store.models import Deliverable
from nicelevel.store.sendings import add_sending, save_sending, sendings_of
from nicelevel.store.sources import give_recipe
from nicelevel.store.specs import keep_version
from tests import signals

from .uploading import JSON, upload, wav

FOLDERS = """
[spec]
name = "Lamp room"
source = "house rule"
[loudness]
measure = "integrated"
target = -20.0
tolerance = 0.5
[[formats]]
container = "wav"
encoding = "pcm_24"
[output]
name = "{spec}/{title}/level {lufs}"
"""


@pytest.fixture
def proved(client, job, work_off):
    """A job with one source, proved wherever it lands."""
    keep_version("lamp-room", FOLDERS)
    add_destination(job.id, "lamp-room")
    upload(client, job, "Night ferry.wav", wav(signals.programme(9, seed=2)))
    work_off()
    client.post(f"/jobs/{job.id}/render", headers=JSON)
    work_off()
    return deliverables_of(job.id)


def test_names_stand_before_anything_is_written_and_are_the_same_after(client, job, work_off):
    upload(client, job, "Night ferry.wav", wav(signals.programme(9, seed=2)))
    work_off()
    before = client.get(f"/jobs/{job.id}/handover").text
    assert "Night ferry_podcast.mp3" in before
    assert 'data-state="planned"' in before
    client.post(f"/jobs/{job.id}/render", headers=JSON)
    work_off()
    after = client.get(f"/jobs/{job.id}/handover/parts").text
    assert 'data-state="planned"' not in after
    for made in deliverables_of(job.id):
        assert made.file_name in before
        assert made.file_name in after


def test_folders_of_a_pattern_are_folders_of_the_tree(client, job, proved):
    page = client.get(f"/jobs/{job.id}/handover").text
    assert page.index("lamp-room/<") < page.index("Night ferry/<") < page.index("level -20.wav")
    manifest = client.get(f"/jobs/{job.id}/manifest.json").json
    assert "lamp-room/Night ferry/level -20.wav" in [each["path"] for each in manifest["files"]]


def test_manifest_and_checksums_say_what_the_database_has(client, job, proved):
    manifest = client.get(f"/jobs/{job.id}/manifest.json").json
    made = {each.sha256: each for each in proved}
    assert {each["sha256"] for each in manifest["files"]} == set(made)
    for row in manifest["files"]:
        kept = made[row["sha256"]]
        assert row["size_bytes"] == kept.size_bytes
        assert row["integrated_lufs"] == kept.measured["integrated_lufs"]
        assert row["source"]["sha256"] == kept.source.digest
        assert row["level_of"] is None
    lines = client.get(f"/jobs/{job.id}/checksums.txt").text.splitlines()
    assert sorted(line.split("  ") for line in lines) == sorted(
        [each["sha256"], each["path"]] for each in manifest["files"]
    )


def test_what_misses_is_quarantined_with_its_reason(client, job, proved):
    missed = proved[0]
    findings = [{"rule": "integrated", "text": "integrated -16.0 ±1 LUFS", "found": -12.5, "meets": False}]
    Deliverable.update(state="missed", findings=findings).where(Deliverable.id == missed.id).execute()
    page = client.get(f"/jobs/{job.id}/handover").text
    assert "Quarantined" in page
    assert "asked integrated −16.0 ±1 LUFS, found −12.50" in page
    paths = [each["sha256"] for each in client.get(f"/jobs/{job.id}/manifest.json").json["files"]]
    assert missed.sha256 not in paths
    assert len(paths) == len(proved) - 1


def test_what_was_made_for_an_older_version_of_a_spec_is_not_handed_over(client, job, proved):
    keep_version("lamp-room", FOLDERS.replace("-20.0", "-21.0"))
    paths = [each["path"] for each in client.get(f"/jobs/{job.id}/manifest.json").json["files"]]
    assert len(paths) == len(proved) - 1
    assert not any(path.startswith("lamp-room") for path in paths)
    assert "level -21.wav" in client.get(f"/jobs/{job.id}/handover").text


def test_what_cannot_meet_its_spec_is_named(client, job, work_off):
    upload(client, job, "Silence.wav", wav(signals.silence(5)))
    work_off()
    page = client.get(f"/jobs/{job.id}/handover").text
    assert "Not in it" in page
    assert "<b>Silence</b>" in page


def _answered(job, made, state, accepted):
    sending = add_sending(job, "http://127.0.0.1:9/packages")
    contents = [{"path": each.file_name, "sha256": each.sha256} for each in made]
    files = [
        {"path": each.file_name, "accepted": good, "reasons": []} for each, good in zip(made, accepted, strict=True)
    ]
    save_sending(sending, state, contents=contents, answer={"state": state, "reasons": [], "files": files})


def test_each_file_says_what_was_answered_of_it_last(client, job, proved):
    def said():
        rows = re.findall(r'<tr data-state="proved".*?</tr>', client.get(f"/jobs/{job.id}/handover").text, re.DOTALL)
        return [next((word for word in ("accepted", "rejected") if word in row), "") for row in rows]

    assert set(said()) == {""}
    _answered(job, proved, "accepted", [True] * len(proved))
    assert set(said()) == {"accepted"}
    _answered(job, proved, "rejected", [False, *[True] * (len(proved) - 1)])
    assert sorted(said()) == [*[""] * (len(proved) - 1), "rejected"]


def test_a_wrong_address_is_a_sentence(client, job):
    refused = client.post(f"/jobs/{job.id}/sendings", data={"address": "the desk"}, headers=JSON)
    assert refused.status_code == 422
    assert "the desk is no address of a receiver" in refused.json["error"]["message"]
    assert sendings_of(job.id) == []


def test_a_package_has_the_checksums_that_its_files_have(client, job, proved, config):
    for made in proved:
        data = client.get(f"/deliverables/{made.id}/file").data
        assert hashlib.sha256(data).hexdigest() == made.sha256


@pytest.fixture
def two(client, job, work_off):
    """Two sources, of 5.1 and of two channels, proved at a destination that keeps what they are."""
    keep_version("lamp-room", FOLDERS)
    add_destination(job.id, "lamp-room")
    for name, channels in (("Storm.wav", 6), ("Theme.wav", 2)):
        upload(client, job, name, wav(signals.programme(6, channels=channels, seed=channels)))
    work_off()
    client.post(f"/jobs/{job.id}/render", headers=JSON)
    work_off()
    return {
        each.source.title: each
        for each in deliverables_of(job.id, ["proved"])
        if each.destination.spec.slug == "lamp-room"
    }


def test_several_files_go_out_as_programmes_of_one(client, job, two, config, tmp_path):
    """In the order and under the names that were typed, every sample as proved; nothing is left on the disk."""
    storm, theme = two["Storm"], two["Theme"]
    page = client.get(f"/jobs/{job.id}/handover").text
    assert "Several in one file" in page
    query = [("file", storm.id), ("file", theme.id), (f"place-{storm.id}", 2), (f"place-{theme.id}", 1)]
    query += [(f"label-{storm.id}", "Full mix"), (f"label-{theme.id}", " ")]
    answer = client.get(f"/jobs/{job.id}/joined.wav", query_string=query)
    assert answer.headers["Content-Disposition"].startswith("attachment")
    assert int(answer.headers["Content-Length"]) == len(answer.data)
    path = tmp_path / "joined.wav"
    path.write_bytes(answer.data)
    found = programmes_of(path).programmes
    assert [(each.label, each.layout.name) for each in found] == [("Theme", "stereo"), ("Full mix", "5.1")]
    read, _ = soundfile.read(path, dtype="int32")
    for programme, made in zip(found, (theme, storm), strict=True):
        written, _ = soundfile.read(file_of(made, config.deliverables_folder), dtype="int32")
        assert np.array_equal(read[:, [number - 1 for number in programme.channels]], written)
    assert not list(config.uploads_folder.glob("*.part"))
    assert not list(config.uploads_folder.glob(".*.part"))


def test_sources_go_out_beside_what_was_proved_with_their_steps(client, job, two, config, tmp_path):
    """As they came bit for bit; of steps what these make: the centre alone, then turned over and 6.02 dB down."""
    storm, theme = two["Storm"].source, two["Theme"]
    came, _ = soundfile.read(io.BytesIO(wav(signals.programme(6, channels=6, seed=6))), dtype="int32")
    query = [("file", f"s{storm.id}"), ("file", theme.id), (f"label-s{storm.id}", "All"), (f"place-s{storm.id}", 1)]
    page = client.get(f"/jobs/{job.id}/handover").text
    assert f'value="s{storm.id}"' in page
    for recipe, expected, kind in (
        (None, came, "int32"),
        ([{"do": "keep", "channels": [3]}], came[:, 2:3], "int32"),
        ([{"do": "mix", "rows": [[0, 0, -0.5, 0, 0, 0]], "layout": "mono"}], -0.5 * came[:, 2:3] / 2**31, "float64"),
    ):
        give_recipe(storm, recipe and json.dumps(recipe), "Own")
        answer = client.get(f"/jobs/{job.id}/joined.wav", query_string=query)
        path = tmp_path / f"{kind}.wav"
        path.write_bytes(answer.data)
        every, pair = programmes_of(path).programmes
        read, _ = soundfile.read(path, dtype=kind)
        assert (every.label, pair.label) == ("All", "Theme")
        assert np.array_equal(read[:, : len(every.channels)], expected)
    assert not list(config.uploads_folder.glob(".*.part"))


def test_what_does_not_fit_in_one_file_is_said(client, job, two, config, work_off):
    storm, theme = two["Storm"], two["Theme"]
    answer = client.get(f"/jobs/{job.id}/joined.wav", query_string={"file": storm.id}, headers=JSON)
    assert answer.status_code == 422
    assert answer.json["error"]["message"] == "One file of several programmes needs two files at least."
    lossy = [each for each in deliverables_of(job.id, ["proved"]) if each.file_name.endswith(".mp3")]
    assert lossy
    assert f'value="{lossy[0].id}"' not in client.get(f"/jobs/{job.id}/handover").text
    query = {"file": [storm.id, lossy[0].id]}
    assert client.get(f"/jobs/{job.id}/joined.wav", query_string=query, headers=JSON).status_code == 422
    file_of(theme, config.deliverables_folder).unlink()
    query = {"file": [storm.id, theme.id]}
    assert client.get(f"/jobs/{job.id}/joined.wav", query_string=query, headers=JSON).status_code == 422
    assert not list(config.uploads_folder.glob("*.part"))


def test_what_is_to_go_in_one_file_is_looked_at_and_drawn_before_it_is_written(client, job, two):
    storm, theme = two["Storm"], two["Theme"]
    query = [("file", storm.id), ("file", theme.id), (f"label-{storm.id}", "Full mix")]
    at = f"/jobs/{job.id}/joined.wav"
    assert client.get(at, query_string=[*query, ("check", "")], headers=JSON).json == {"problem": ""}
    ribbon = client.get(f"/jobs/{job.id}/ribbon", query_string=query).text
    assert ribbon.count('class="programme"') == 2
    assert "Full mix" in ribbon
    assert ">8</text>" in ribbon
    for more, sentence in (
        ([("start", "25:00:00:00")], "There is no 25:00:00:00"),
        ([("start", "10:00:00:00"), ("guard-s", "-1")], "A guard time"),
        ([("start", "10:00:00:00"), ("frame-rate", "26")], "no such frame rate"),
    ):
        query_string = [*query, ("check", ""), *more]
        answer = client.get(f"/jobs/{job.id}/joined.wav", query_string=query_string, headers=JSON)
        assert sentence in answer.json["problem"]


def test_a_contribution_is_written_with_its_start_or_refused_before_it_is_sent(client, job, two, tmp_path):
    storm, theme = two["Storm"], two["Theme"]
    chosen = [("file", storm.id), ("file", theme.id), ("start", "10:00:00:00"), ("guard-s", "1.5")]
    answer = client.get(f"/jobs/{job.id}/joined.wav", query_string=chosen)
    path = tmp_path / "c.wav"
    path.write_bytes(answer.data)
    told = told_by(path)
    assert (told.rate.name, told.start) == ("25", "10:00:00:00")
    assert told.guard_frames == 38 * 1_920  # brought up to whole pictures
    for data, sentence in (
        ([*chosen[:2], ("address", "http://x.example/y")], "says when it begins"),
        ([*chosen, ("address", "nowhere")], "address"),
        ([chosen[0], chosen[2], ("address", "http://x.example/y")], "two files at least"),
    ):
        fields = {}
        for key, value in data:
            fields.setdefault(key, []).append(value)
        answer = client.post(f"/jobs/{job.id}/contributions", data=fields, headers=JSON)
        assert answer.status_code == 422
        assert sentence in answer.json["error"]["message"]
    assert sendings_of(job.id) == []
