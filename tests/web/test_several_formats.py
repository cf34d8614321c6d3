"""A destination that asks for several files: each is shown, heard and downloaded, and counted as one place."""

import io
import re
import zipfile

import pytest

from nicelevel.store.deliverables import deliverables_of
from nicelevel.store.jobs import add_destination, destinations_of
from nicelevel.store.specs import keep_version
from nicelevel.store.trash import trash_destination
from tests import signals

from .uploading import JSON, upload, wav

THREE = (
    '[spec]\nname = "Three"\n[loudness]\nmeasure = "rms"\ntarget = -20.0\ntolerance = 0.5\n'
    '[[formats]]\ncontainer = "wav"\nencoding = "pcm_24"\n[[formats]]\ncontainer = "aiff"\n'
    '[[formats]]\ncontainer = "mp3"\nbitrate_kbps = 320\n'
)


@pytest.fixture
def place(client, job):
    for each in destinations_of(job.id):
        trash_destination(each)
    keep_version("three", THREE)
    return add_destination(job.id, "three")


@pytest.fixture
def source(client, job, place, work_off):
    found = upload(client, job, "mix.wav", wav(signals.programme(6, seed=2))).json["source"]
    work_off()
    return found


def test_each_plan_is_shown_with_the_figure_that_the_spec_is_about_and_heard(client, source, place):
    page = client.get(f"/sources/{source}/close-up/{place.id}").text
    assert re.findall(r'<th scope="row">((?:WAV|AIFF|MP3)[^<]*)', page) == [
        "WAV, 24 bit, 48 kHz, stereo",
        "AIFF, 24 bit, 48 kHz, stereo",
        "MP3, 48 kHz, stereo",
    ]
    rms = re.search(r'RMS, dBFS</th><td class="fig">([^<]+)</td><td class="fig">([^<]+)', page)
    assert rms.group(2) == "−20.0"
    keys = re.findall(r'data-take="(plan-[^"]+)"', page)
    assert keys == [f"plan-{source}-{place.id}", f"plan-{source}-{place.id}-1", f"plan-{source}-{place.id}-2"]
    coded = client.get(f"/hear/{keys[2]}/48000/1?finish=coded")
    assert coded.status_code == 200
    assert coded.data != client.get(f"/hear/{keys[0]}/48000/1").data
    assert client.get(f"/hear/plan-{source}-{place.id}-3/48000/1").status_code == 404


def test_what_was_proved_is_shown_heard_and_downloaded_and_counts_once(client, job, source, place, work_off):
    client.post(f"/jobs/{job.id}/render", headers=JSON)
    work_off()
    made = deliverables_of(job.id, ["proved"])
    assert len(made) == 3
    parts = client.get(f"/jobs/{job.id}/parts").text
    assert "1 land" in re.sub(r"<[^>]+>", "", parts)
    assert "1 proved" in re.sub(r"<[^>]+>", "", parts)
    page = client.get(f"/sources/{source}/close-up/{place.id}").text
    for each in made:
        assert f"/deliverables/{each.id}/file" in page
        assert f'data-take="made-{each.id}"' in page
    address = re.search(r'data-download href="([^"]+)"', page).group(1)
    package = zipfile.ZipFile(io.BytesIO(client.get(address).data))
    assert {each.file_name for each in made} < set(package.namelist())
    assert package.testzip() is None
