"""Everything that Runs call proved is in the package, whatever rate its format has; what is not, is said."""

import io
import json
import zipfile

import pytest

from nicelevel.store.deliverables import deliverables_of
from nicelevel.store.jobs import add_destination, destinations_of
from nicelevel.store.models import Deliverable
from nicelevel.store.specs import keep_version
from nicelevel.store.trash import trash_destination
from tests import signals

from .uploading import JSON, upload, wav

SPEC = """
spec.name = "Both rates"
loudness = {{ target = {target}, tolerance = 0.5 }}
limits = {{ max_true_peak_dbtp = -1.0 }}
method = {{ allow = "limiter" }}
formats = [
    {{ container = "wav", encoding = "pcm_24" }},
    {{ container = "mp3", encoding = "mp3", sample_rate = 48000, bitrate_kbps = 192 }},
    {{ container = "wav", encoding = "pcm_16", sample_rate = 44100 }},
]
output = {{ name = "{{title}}_{{codec}}_{{rate}}" }}
"""


@pytest.fixture
def rendered(client, job, work_off):
    """A source of 96 kHz in three formats of three rates, all of them rendered."""
    for place in destinations_of(job.id):
        trash_destination(place)
    keep_version("both", SPEC.format(target=-16.0))
    add_destination(job.id, "both")
    tone = signals.programme(6, seed=2)
    file = io.BytesIO()
    import soundfile

    soundfile.write(file, tone, 96_000, "PCM_24", format="WAV")
    upload(client, job, "High.wav", file.getvalue())
    for _ in range(3):
        work_off()
    assert client.post(f"/jobs/{job.id}/render", headers=JSON).json["queued"] == 3
    work_off()
    assert [each.state for each in deliverables_of(job.id)] == ["proved"] * 3
    return job


def _package(client, job):
    return zipfile.ZipFile(io.BytesIO(client.get(f"/jobs/{job.id}/package.zip").data))


def test_every_format_of_every_rate_is_in_the_package(client, rendered):
    package = _package(client, rendered)
    told = json.loads(package.read("manifest.json"))
    assert {each["path"] for each in told["files"]} == {
        "Both rates/High_pcm_24_96000.wav",
        "Both rates/High_mp3_48000.mp3",
        "Both rates/High_pcm_16_44100.wav",
    }
    assert (told["complete"], told["missing"]) == (True, [])
    assert "NOT COMPLETE.txt" not in package.namelist()
    assert 'data-state="planned"' not in client.get(f"/jobs/{rendered.id}/handover").text
    assert "All rendered" in client.get(f"/jobs/{rendered.id}").text


def test_what_was_rendered_for_an_earlier_version_of_its_spec_is_said_to_be_missing(client, rendered):
    keep_version("both", SPEC.format(target=-18.0))
    told = json.loads(_package(client, rendered).read("manifest.json"))
    assert told["files"] == []
    assert [each["reason"] for each in told["missing"]] == [
        "It was rendered for an earlier version of its spec; render it again."
    ] * 3
    assert {each["destination"] for each in told["missing"]} == {
        "Both rates, wav 96000 Hz",
        "Both rates, mp3 48000 Hz",
        "Both rates, wav 44100 Hz",
    }


def test_a_format_that_failed_makes_the_cell_renderable_again(client, rendered, work_off):
    Deliverable.update(state="failed", error_code="lost", error_message="Gone.").where(
        Deliverable.output.contains("mp3")
    ).execute()
    page = client.get(f"/jobs/{rendered.id}/handover").text
    assert "not complete: 1 missing" in page
    client.post(f"/jobs/{rendered.id}/render", headers=JSON)
    work_off()
    assert json.loads(_package(client, rendered).read("manifest.json"))["complete"] is True


def test_papers_never_begin_a_formula(client, job, work_off):
    upload(client, job, "=HYPERLINK(A1).wav", wav(signals.programme(6, seed=3)))
    work_off()
    client.post(f"/jobs/{job.id}/render", headers=JSON)
    work_off()
    cells = client.get(f"/jobs/{job.id}/proof.csv").text
    assert "'=HYPERLINK(A1)_podcast.mp3" in cells
    assert "\n=" not in cells
