"""A voice recording by Flask's own client: from taken in to offered, and what goes wrong on the way."""

import numpy as np
import pytest
import soundfile

from nicelevel.core.measure import measure
from nicelevel.store.deliverables import deliverables_of, file_of
from nicelevel.store.jobs import destinations_of, find_job
from nicelevel.store.rules import rules_of
from nicelevel.store.sources import find_source
from nicelevel.store.specs import spec_of
from tests import episodes, signals

from .uploading import JSON, upload, wav


@pytest.fixture
def voice(client, store):
    """The job of a voice, and its page."""
    answer = client.post("/voice", data={"title": "Interview"}, headers=JSON).json
    return find_job(answer["id"]), answer["board"]


def _uneven(channels):
    sound, _ = episodes.episode([0, -9, 5, -4], [0.8, 0.6, 1.2, 0.5])
    return np.concatenate([0.2 * sound] * channels, axis=1)


@pytest.mark.parametrize(("channels", "target"), [(1, -19.0), (2, -16.0)])
def test_it_is_evened_out_levelled_coded_and_offered_by_itself(client, voice, work_off, config, channels, target):
    job, page = voice
    upload(client, job, "talk.wav", wav(_uneven(channels)))
    work_off()
    (made,) = deliverables_of(job.id)
    assert made.state == "proved"
    written = file_of(made, config.deliverables_folder)
    reading = measure(written)
    assert reading.source.encoding == "mp3"
    assert reading.integrated_lufs == pytest.approx(target, abs=0.5)
    assert soundfile.info(written).channels == channels
    text = client.get(page).text
    assert "Evened out speech by " in text
    assert f"to −{-made.measured['integrated_lufs']:.1f} LUFS, coded as MP3, then read back and checked." in text
    assert text.count('<li class="done"') == 5
    assert f"/deliverables/{made.id}/file" in text
    assert 'data-take="' in text  # before and after can be heard here


def test_a_voice_on_one_side_becomes_one_channel_and_its_dead_air_goes(client, voice, work_off, config):
    """What is noted is mended before it is evened out, and the sentence says so."""
    job, page = voice
    one = np.concatenate([_uneven(1), signals.silence(6)[:, :1]])
    upload(client, job, "talk.wav", wav(np.concatenate([one, 0.0 * one], axis=1)))
    work_off()
    (made,) = deliverables_of(job.id)
    assert made.state == "proved"
    assert soundfile.info(file_of(made, config.deliverables_folder)).channels == 1
    assert made.measured["integrated_lufs"] == pytest.approx(-19.0, abs=0.5)
    assert made.measured["duration_s"] < len(one) / 48_000 - 5
    line = client.get(page).text.partition('<p class="line">')[2].partition("</p>")[0]
    assert "evened out speech by" in line
    assert "took out 1 pause" in line.lower()


def test_what_has_more_channels_than_mp3_holds_is_folded_down(client, voice, work_off, config):
    job, page = voice
    one = _uneven(1)
    upload(
        client,
        job,
        "talk.wav",
        wav(np.concatenate([0.3 * one, 0.3 * one, one, 0.0 * one, 0.1 * one, 0.1 * one], axis=1)),
    )
    work_off()
    (made,) = deliverables_of(job.id)
    assert made.state == "proved"
    assert soundfile.info(file_of(made, config.deliverables_folder)).channels == 2
    assert made.measured["integrated_lufs"] == pytest.approx(-16.0, abs=0.5)
    line = client.get(page).text.partition('<p class="line">')[2].partition("</p>")[0]
    assert "olded down to stereo" in line
    assert "evened out speech by" in line


def test_on_its_way_it_says_where_it_is(client, voice):
    job, page = voice
    assert 'id="voices"' in client.get(page).text
    upload(client, job, "talk.wav", wav(_uneven(1)))
    text = client.get(f"/jobs/{job.id}/voice/parts").text
    assert '<li class="done">taken in' in text
    assert '<li class="now" aria-current="step">listened to' in text
    assert "Download" not in text


@pytest.mark.parametrize(
    ("name", "data", "words"),
    [
        ("noise.wav", b"RIFF\x00\x00\x00\x00WAVEjunk" * 20, "is"),
        ("silence.wav", None, "silen"),
    ],
)
def test_what_cannot_be_made_ready_is_said_with_a_way_out(client, voice, work_off, name, data, words):
    job, page = voice
    upload(client, job, name, data or wav(signals.silence(3)))
    work_off()
    text = client.get(page).text
    assert 'class="halted"' in text
    assert words in text
    assert "Nothing of the recording is lost." in text
    assert not deliverables_of(job.id, ["proved"])


def test_a_voice_is_a_job_like_any_other(client, voice, work_off):
    """No figure is asked for; all can be opened."""
    job, _ = voice
    assert [spec_of(each.spec).slug for each in destinations_of(job.id)] == ["podcast"]
    told = [(rule.recipe, rule.channels, rule.mends, rule.renders) for rule in rules_of(job.id)]
    assert told == [("speech-from-many-channels", "more", True, True), ("even-out-speech", None, True, True)]
    source = upload(client, job, "talk.wav", wav(_uneven(1))).json["source"]
    work_off()
    assert find_source(source).recipe_name == "Even out speech"
    assert client.get(f"/jobs/{job.id}").status_code == 200
    client.post(f"/destinations/{destinations_of(job.id)[0].id}/remove", headers=JSON)
    for each in destinations_of(job.id):
        each.delete_instance()
    assert client.get(f"/jobs/{job.id}/voice").status_code == 302


def test_a_rule_renders_what_comes_in_but_no_part_of_a_set_alone(client, job, work_off):
    client.post(f"/jobs/{job.id}/rules/", data={"recipe": "clean-head", "renders": "on"}, headers=JSON)
    upload(client, job, "Speech.wav", wav(signals.programme(3)))
    drums, bass = signals.programme(3, seed=5), signals.programme(3, seed=6)
    # All at once, as stems are dropped: their names propose a set before any of them is rendered.
    for name, sound in {"Song mix.wav": drums + bass, "Song drums.wav": drums, "Song bass.wav": bass}.items():
        upload(client, job, name, wav(0.4 * sound))
    work_off()
    titles = {each.source.title for each in deliverables_of(job.id)}
    assert "Speech" in titles
    assert not titles & {"Song drums", "Song bass"}
    assert "then rendered." in client.get(f"/jobs/{job.id}/rules/").text
