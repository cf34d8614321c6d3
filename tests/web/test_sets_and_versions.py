"""Versions of a title, sets by the loudest or by the sum, the parts of a large board: by Flask's own client."""

import re

import numpy as np
import pytest

from nicelevel.desk.current import current_deliverables
from nicelevel.store import readings
from nicelevel.store.deliverables import deliverables_of
from nicelevel.store.jobs import destinations_of
from nicelevel.store.models import Reading
from nicelevel.store.own_targets import own_targets_of
from nicelevel.store.sources import find_source, sources_of
from nicelevel.web.board import FIRST_ROWS
from tests import signals

from .asking import once_counted
from .uploading import JSON, upload, wav


def audio_of(client):
    return client.application.config["AUDIO"]


def titles(job):
    return [source.title for source in sources_of(job.id)]


def by_title(job, title):
    return next(source for source in sources_of(job.id) if source.title == title)


@pytest.fixture
def versions(client, job, work_off):
    """Two versions of a title, both measured."""
    for number, level in ((1, -30), (2, -20)):
        upload(client, job, f"Night ferry v{number}.wav", wav(signals.noise(4, level, seed=number)))
    work_off()
    return job


def test_only_the_newest_version_counts_is_rendered_and_packed(client, versions, work_off):
    parts = client.get(f"/jobs/{versions.id}/parts").text
    assert re.findall(r'data-versions="(\w*)"', parts) == ["counts", "older"]
    assert "1 source" in parts
    client.post(f"/jobs/{versions.id}/render", headers=JSON)
    work_off()
    made = deliverables_of(versions.id)
    assert {each.source.title for each in made} == {"Night ferry v2"}
    client.post(f"/sources/{by_title(versions, 'Night ferry v1').id}/count", headers=JSON)
    assert client.get(f"/jobs/{versions.id}/package.zip").data.count(b"Night ferry v2") == 0


def test_figures_that_are_lost_take_nothing_from_the_other_sources(client, versions):
    lost, kept = by_title(versions, "Night ferry v1"), by_title(versions, "Night ferry v2")
    Reading.delete().where(Reading.digest == lost.digest).execute()
    readings._figures.clear()
    parts = client.get(f"/jobs/{versions.id}/parts").text
    assert re.findall(r'data-versions="(\w*)"', parts) == ["", ""]
    place = destinations_of(versions.id)[0]
    close_up = "/sources/{}/close-up/{}?width=900&height=247"
    assert client.get(close_up.format(kept.id, place.id)).status_code == 200
    told = client.get(close_up.format(lost.id, place.id), headers=JSON)
    assert (told.status_code, told.json["error"]["code"]) == (503, "lost")


def test_an_older_version_does_not_stand_against_a_spec(client, versions):
    page = client.get(f"/specs/podcast?job={versions.id}").text
    assert "Night ferry v2:" in page
    assert "Night ferry v1" not in page


def test_the_choice_of_a_version_is_kept_and_asked_about_when_a_newer_one_comes(client, versions, work_off):
    client.post(f"/sources/{by_title(versions, 'Night ferry v1').id}/count", headers=JSON)
    parts = client.get(f"/jobs/{versions.id}/parts").text
    assert "set aside: Night ferry v1 was chosen" in parts
    assert "data-answer" not in parts
    upload(client, versions, "Night ferry v3.wav", wav(signals.noise(4, -25, seed=3)))
    work_off()
    parts = client.get(f"/jobs/{versions.id}/parts").text
    assert re.findall(r'data-versions="(\w*)"', parts) == ["older", "older", "counts"]
    assert "Night ferry v3 came after Night ferry v1 was chosen." in parts
    count, leave = re.findall(r'data-answer="([^"]+)"', parts)
    client.post(leave, headers=JSON)
    assert "data-answer" not in client.get(f"/jobs/{versions.id}/parts").text
    client.post(count, headers=JSON)
    parts = client.get(f"/jobs/{versions.id}/parts").text
    assert re.findall(r'data-versions="(\w*)"', parts) == ["counts", "older", "older"]


STEMS = [0.3 * signals.programme(4, seed=seed) for seed in (7, 8)]


def _song(client, job, work_off, mix):
    upload(client, job, "song.wav", wav(mix))
    for name, stem in zip("ab", STEMS, strict=True):
        upload(client, job, f"song_{name}.wav", wav(stem))
    work_off()


def test_a_mix_and_stems_that_add_up_are_a_set_at_once_and_apart_for_good_by_one_key(client, job, work_off):
    _song(client, job, work_off, sum(STEMS))
    song = by_title(job, "song")
    assert [each.leader_id for each in sources_of(job.id)] == [None, song.id, song.id]
    parts = client.get(f"/jobs/{job.id}/parts").text
    assert "with its stems" in parts
    assert "data-answer" not in parts
    client.post(f"/sources/{song.id}/unlink", headers=JSON)
    upload(client, job, "other.wav", wav(signals.noise(4, -20)))
    work_off()
    assert all(each.leader_id is None for each in sources_of(job.id))
    assert "data-answer" not in client.get(f"/jobs/{job.id}/parts").text


def test_stems_that_do_not_add_up_are_asked_about_before_they_are_rendered(client, job, work_off):
    _song(client, job, work_off, STEMS[0] + 0.5 * STEMS[1])
    song = by_title(job, "song")
    parts = client.get(f"/jobs/{job.id}/parts").text
    assert "song_a and song_b: named like stems of song. The stems do not add up to the mix" in parts
    assert client.post(f"/jobs/{job.id}/render", headers=JSON).json == {"queued": 0, "held": 3, "coming": 0}
    together, alone = re.findall(r'data-answer="([^"]+)" data-members="([^"]*)"', parts)
    client.post(alone[0], headers=JSON)
    assert client.post(f"/jobs/{job.id}/render", headers=JSON).json["held"] == 0
    client.post(together[0], data={"member": together[1].split()}, headers=JSON)
    assert {each.leader_id for each in sources_of(job.id)} == {None, song.id}


def test_a_stem_that_comes_later_joins_its_set_where_the_sum_says_so(client, job, work_off):
    mix = STEMS[0] + STEMS[1]
    upload(client, job, "song.wav", wav(mix))
    upload(client, job, "song_a.wav", wav(STEMS[0]))
    work_off()
    assert "data-answer" in client.get(f"/jobs/{job.id}/parts").text
    upload(client, job, "song_b.wav", wav(STEMS[1]))
    work_off()
    assert [each.leader_id for each in sources_of(job.id)].count(by_title(job, "song").id) == 2
    assert "data-answer" not in client.get(f"/jobs/{job.id}/parts").text


def test_a_correction_under_the_same_name_counts_and_the_first_is_in_no_package(client, job, work_off):
    for level in (-30, -20):
        upload(client, job, "Night ferry.wav", wav(signals.noise(4, level, seed=-level)))
        work_off()
        client.post(f"/jobs/{job.id}/render", headers=JSON)
        work_off()
    parts = client.get(f"/jobs/{job.id}/parts").text
    assert re.findall(r'data-versions="(\w*)"', parts) == ["counts", "older"]
    assert "replaced" in parts
    _, second = sorted(sources_of(job.id), key=lambda each: each.id)
    assert {each.source_id for each in current_deliverables(job.id, audio_of(client))} == {second.id}


def test_the_very_same_file_is_not_taken_in_twice(client, job, work_off):
    data = wav(signals.noise(2, -20))
    assert upload(client, job, "one.wav", data).json == upload(client, job, "one.wav", data).json
    upload(client, job, "two.wav", data)
    work_off()
    parts = client.get(f"/jobs/{job.id}/parts").text
    assert len(sources_of(job.id)) == 2
    assert parts.count("The same file as") == 2


def test_a_file_that_replaces_another_takes_its_title_its_set_and_its_own_target(client, job, work_off):
    _song(client, job, work_off, sum(STEMS))
    song, stem = by_title(job, "song"), by_title(job, "song_a")
    place = destinations_of(job.id)[0]
    client.post(f"/sources/{song.id}/target/{place.id}", data={"target": "-20"}, headers=JSON)
    address = f"/jobs/{job.id}/sources?name=bounce.wav&replaces={song.id}"
    client.post(address, data=wav(0.5 * sum(STEMS)), headers=JSON)
    work_off()
    new = next(each for each in sources_of(job.id) if each.file_name == "bounce.wav")
    assert (new.title, new.set_kind, new.replaces_id) == ("song", "sum", song.id)
    assert find_source(stem.id).leader_id == new.id
    assert own_targets_of(job.id)[new.id, place.id] == -20.0
    parts = client.get(f"/jobs/{job.id}/parts").text
    assert "A later file stands for this one: bounce." in parts


def test_versions_that_are_both_wanted_both_count(client, versions):
    client.post(f"/sources/{by_title(versions, 'Night ferry v1').id}/count?beside=1", headers=JSON)
    parts = client.get(f"/jobs/{versions.id}/parts").text
    assert re.findall(r'data-versions="(\w*)"', parts) == ["counts", "counts"]


def test_a_row_that_changed_brings_the_other_versions_of_its_title(client, versions):
    ids = [source.id for source in sources_of(versions.id)]
    parts = client.get(f"/jobs/{versions.id}/parts?source={ids[0]}").text
    assert {int(key) for key in re.findall(r'id="source-(\d+)"', parts)} == set(ids)


def test_when_a_file_was_changed_decides_where_names_do_not(client, job, work_off):
    address = f"/jobs/{job.id}/sources?name="
    for name, changed in (("ferry final.wav", 2_000), ("ferry v3.wav", 1_000), ("other.wav", "x")):
        body = wav(signals.noise(1, -20, seed=len(name)))
        client.post(f"{address}{name}&changed={changed}", data=body, headers=JSON)
    work_off()
    assert re.findall(
        r'data-versions="older".*?<b title="([^"]+)"', client.get(f"/jobs/{job.id}/parts").text, re.S
    ) == ["ferry v3.wav"]


@pytest.fixture
def three(client, job, work_off):
    """Three sources of equal length at different levels."""
    for name, level in (("low", -40), ("loud", -22), ("middle", -30)):
        upload(client, job, f"{name}.wav", wav(signals.noise(4, level, seed=level + 50)))
    work_off()
    return job


def test_a_set_takes_the_gain_of_its_loudest(client, three):
    ids = [source.id for source in sources_of(three.id)]
    client.post(f"/jobs/{three.id}/sets", data={"member": ids, "by": "loudest"}, headers=JSON)
    loud = by_title(three, "loud")
    assert {source.leader_id for source in sources_of(three.id) if source.id != loud.id} == {loud.id}
    assert loud.leader_id is None


def test_a_set_takes_the_gain_of_its_sum(client, three, work_off):
    members = [by_title(three, name) for name in ("low", "middle")]
    client.post(f"/jobs/{three.id}/sets", data={"member": [each.id for each in members], "by": "sum"}, headers=JSON)
    assert by_title(three, "Sum of low and middle").state == "queued"
    work_off()
    total = by_title(three, "Sum of low and middle")
    assert total.state == "measured"
    assert {source.title for source in sources_of(three.id) if source.leader_id == total.id} == {"low", "middle"}
    reading = client.get(f"/sources/{total.id}/reading").text
    # Noises that have nothing in common add by energy: -40 and -30 dB make -29.6.
    assert "float" in reading.lower()
    expected = 10 * np.log10(10**-4 + 10**-3)
    parts = client.get(f"/jobs/{three.id}/parts?source={total.id}").text
    found = re.search(r'data-value-of="integrated" data-value="([^"]+)"', parts)
    low = re.search(
        r'data-value-of="integrated" data-value="([^"]+)"',
        client.get(f"/jobs/{three.id}/parts?source={members[0].id}").text,
    )
    assert float(found[1]) - float(low[1]) == pytest.approx(expected + 40, abs=0.1)


def test_what_cannot_be_added_up_says_so(client, three, work_off):
    upload(client, three, "short.wav", wav(signals.noise(3, -30)))
    work_off()
    ids = [by_title(three, name).id for name in ("low", "short")]
    client.post(f"/jobs/{three.id}/sets", data={"member": ids, "by": "sum"}, headers=JSON)
    work_off()
    total = by_title(three, "Sum of low and short")
    assert total.state == "failed"
    assert "short has 144000 frames, low 192000" in total.error_message
    refused = client.post(f"/jobs/{three.id}/sets", data={"member": ids[:1]}, headers=JSON)
    assert "two measured sources" in refused.json["error"]["message"]


def test_rows_beyond_the_first_are_outlines_until_they_are_asked_for(client, job, work_off):
    for number in range(FIRST_ROWS + 3):
        upload(client, job, f"take {number:02d}.wav", wav(signals.noise(0.5, -20, seed=number)))
    work_off()
    page = client.get(f"/jobs/{job.id}").text
    assert page.count("data-outline") == 3
    assert "being planned" in page
    last = sources_of(job.id)[-1]
    parts = client.get(f"/jobs/{job.id}/parts?source={last.id}").text
    assert re.findall(r'id="source-(\d+)"', parts) == [str(last.id)]
    assert parts.count('class="dest cell"') == len(destinations_of(job.id))
    everything = client.get(f"/jobs/{job.id}/parts?others=1&source={last.id}").text
    assert everything.count("data-outline") == 2
    assert f"{FIRST_ROWS + 3} sources" in once_counted(client, f"/jobs/{job.id}/bar")


def test_a_column_holds_one_destination_for_the_sources_asked_for(client, three):
    ids = [source.id for source in sources_of(three.id)]
    place = destinations_of(three.id)[1]
    column = client.get(f"/jobs/{three.id}/column/{place.id}?source={ids[2]}&source={ids[0]}").text
    assert re.findall(r'id="cell-(\d+)-(\d+)"', column) == [
        (str(ids[2]), str(place.id)),
        (str(ids[0]), str(place.id)),
    ]
    assert f'id="head-{place.id}"' in column


@pytest.mark.parametrize(
    ("query", "expected"),
    [
        ("by=integrated&down=1", ["loud", "middle", "low"]),
        ("by=integrated", ["low", "middle", "loud"]),
        ("by=title", ["loud", "low", "middle"]),
        ("by=place&words=lo", ["low", "loud"]),
        ("by=integrated&words=nothing", []),
    ],
)
def test_the_order_of_rows(client, three, query, expected):
    answer = client.get(f"/jobs/{three.id}/order?{query}").json["sources"]
    names = {source.id: source.title for source in sources_of(three.id)}
    assert [names[key] for key in answer] == expected


def test_rows_are_ordered_by_the_gain_at_a_destination(client, three):
    place = destinations_of(three.id)[0]
    answer = client.get(f"/jobs/{three.id}/order?by=place-{place.id}&down=1").json["sources"]
    names = {source.id: source.title for source in sources_of(three.id)}
    assert [names[key] for key in answer] == ["low", "middle", "loud"]
