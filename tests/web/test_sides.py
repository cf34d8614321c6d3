"""Two files that are a pair become one source, nothing copied: by Flask's own client, with what is kept and thrown
away of it."""

import re

import numpy as np
import pytest

from nicelevel.core.files.beside import files_of
from nicelevel.desk.channels import shape_of
from nicelevel.store.deliverables import deliverables_of
from nicelevel.store.models import Source
from nicelevel.store.readings import load_figures
from nicelevel.store.sources import find_source, sources_of
from nicelevel.store.trash import trash, trash_source
from nicelevel.work.keeping import free_trash, reconcile, sweep
from tests import signals

from .uploading import JSON, upload, wav

BOTH = signals.programme(4, seed=5)


def _audio(client):
    return client.application.config["AUDIO"]


def _config(client):
    return client.application.config["NICE_LEVEL"]


def _titles(job):
    return [source.title for source in sources_of(job.id)]


def _asked(client, job):
    parts = client.get(f"/jobs/{job.id}/parts").text
    return re.findall(r'data-answer="([^"]+)" data-members="([^"]*)"', parts), parts


@pytest.fixture
def halves(client, job, work_off):
    """Two files of one channel, measured; their ids."""
    made = [
        upload(client, job, f"Gallery {side}.wav", wav(BOTH[:, at : at + 1])).json["source"]
        for at, side in enumerate("LR")
    ]
    work_off()
    return made


@pytest.fixture
def joined(client, job, halves, work_off):
    """The one source that was made of them."""
    ((address, members), _), _ = _asked(client, job)
    client.post(address, data={"member": members.split()}, headers=JSON)
    work_off()
    (source,) = sources_of(job.id)
    return find_source(source.id)


def test_a_pair_is_asked_about_with_what_it_sounds_like_and_waits(client, job, halves, work_off):
    answers, parts = _asked(client, job)
    assert "Gallery L and Gallery R: two sides of one? They have one length, to the sample." in parts
    assert re.search(r"Their correlation is [+−]\d\.\d\d, and ", parts)
    assert [address.rpartition("/")[2] for address, _ in answers] == ["sides", "leave-apart"]
    client.post(f"/jobs/{job.id}/render", headers=JSON)
    work_off()
    assert deliverables_of(job.id) == []


def test_the_two_become_one_whose_figures_are_those_of_the_pair_and_nothing_is_copied(client, job, joined):
    assert joined.title == "Gallery"
    assert joined.file_name == "Gallery.wav"
    assert shape_of(joined, _audio(client)).layout.name == "stereo"
    whole = load_figures(joined.digest, _audio(client))
    both = find_source(upload(client, job, "other.wav", wav(BOTH)).json["source"])
    assert both.digest != joined.digest
    assert _audio(client).audio_path(joined.digest).stat().st_size < 1_000
    assert joined.size_bytes == pytest.approx(2 * BOTH.shape[0] * 3, rel=0.01)
    assert whole.source.layout.positions == ("L", "R")
    page = client.get(f"/sources/{joined.id}/reading")
    assert page.status_code == 200
    assert "2 channels" in page.text or "stereo" in page.text


def test_one_press_takes_it_back(client, job, joined):
    client.post(f"/jobs/{job.id}/undo", headers=JSON)
    assert _titles(job) == ["Gallery L", "Gallery R"]
    assert len(_asked(client, job)[0]) == 2


def test_left_apart_they_are_not_asked_about_again(client, job, halves):
    (_, (apart, _)), _ = _asked(client, job)
    client.post(apart, headers=JSON)
    assert _asked(client, job)[0] == []
    assert _titles(job) == ["Gallery L", "Gallery R"]


def test_it_is_rendered_and_proved_like_a_file(client, job, joined, work_off):
    client.post(f"/jobs/{job.id}/render", headers=JSON)
    work_off()
    assert "Gallery" in client.get(f"/jobs/{job.id}/handover").text
    package = client.get(f"/jobs/{job.id}/package.zip").data
    assert b"Gallery" in package


def test_its_sides_outlive_the_trash_and_go_with_it(client, job, joined):
    audio, config = _audio(client), _config(client)
    sides = [audio.existing_path(each.digest) for each in Source.select().where(Source.title.startswith("Gallery "))]
    assert len(sides) == 2
    assert trash().sources == 2
    assert trash().size_bytes == 0  # all of it is still needed
    free_trash(config)
    sweep(config)
    assert all(each.is_file() for each in sides)
    assert reconcile(config, tell=lambda *_: None) == []
    trash_source(joined)
    free_trash(config)
    assert not any(each.exists() for each in sides)
    assert not audio.audio_path(joined.digest).exists()


@pytest.mark.parametrize("fault", ["gone", "damaged"])
def test_a_side_that_is_missing_is_said_and_found_again(client, job, joined, work_off, fault):
    audio, config = _audio(client), _config(client)
    free_trash(config)
    side = files_of(audio.existing_path(joined.digest))[1]
    side.chmod(0o644)
    if fault == "gone":
        side.unlink()
    else:
        side.write_bytes(side.read_bytes()[:-1] + b"\x55")
    (missing,) = reconcile(config, tell=lambda *_: None)
    assert missing.name == "Gallery.wav"
    assert find_source(joined.id).error_code == "lost"
    for at, name in enumerate("LR"):
        upload(client, job, f"Gallery {name}.wav", wav(BOTH[:, at : at + 1]))
    work_off()
    assert find_source(joined.id).state == "measured"
    assert reconcile(config, tell=lambda *_: None) == []


def test_any_two_of_one_channel_and_length_become_one_by_hand(client, job, work_off):
    made = [
        upload(client, job, f"{name}.wav", wav(BOTH[:, at : at + 1])).json["source"]
        for at, name in enumerate(("near", "far"))
    ]
    work_off()
    answer = client.post(f"/jobs/{job.id}/sides", data={"member": made}, headers=JSON)
    work_off()
    assert answer.status_code == 200
    (source,) = sources_of(job.id)
    assert source.title == "near far"
    assert load_figures(source.digest, _audio(client)).source.layout.name == "stereo"


def test_pressed_in_two_windows_it_is_made_once(client, job, halves):
    first, second = (client.post(f"/jobs/{job.id}/sides", data={"member": halves}, headers=JSON) for _ in range(2))
    assert (first.status_code, second.status_code) == (200, 422)
    assert "taken out meanwhile" in second.json["error"]["message"]
    assert _titles(job) == ["Gallery"]


def test_it_is_called_by_what_their_titles_have_in_common(client, job, halves):
    for source, title in zip(halves, ("Sea, left", "Sea, right"), strict=True):
        client.post(f"/sources/{source}/name", data={"title": title}, headers=JSON)
    client.post(f"/jobs/{job.id}/sides", data={"member": halves}, headers=JSON)
    (source,) = sources_of(job.id)
    assert (source.title, source.file_name) == ("Sea", "Gallery.wav")


def test_what_cannot_be_one_says_why(client, job, work_off):
    sounds = {"a": BOTH[:, :1], "b": BOTH[:-1, :1], "c": BOTH, "d": BOTH[:, 1:], "e": np.flip(BOTH[:, :1])}
    made = {name: upload(client, job, f"{name}.wav", wav(each)).json["source"] for name, each in sounds.items()}
    work_off()
    for members, sentence in (
        ("ab", "rate, length or word length"),
        ("ac", "one channel each"),
        ("a", "two or more"),
        ("ade", "no known layout"),
    ):
        answer = client.post(f"/jobs/{job.id}/sides", data={"member": [made[n] for n in members]}, headers=JSON)
        assert answer.status_code == 422
        assert sentence in answer.json["error"]["message"]
    assert len(_titles(job)) == 5
