"""The Reading screen and the Set view, by Flask's own client: pages and binary parts."""

import re
import subprocess

import numpy as np
import pytest

from nicelevel.core.measure.waveform import FULL_SCALE
from tests import episodes, signals

from .uploading import JSON, upload, wav


def _source(client, job, work_off, signal, name="mix.wav", **options):
    source = upload(client, job, name, wav(signal, **options)).json["source"]
    work_off()
    return source


def test_the_page_says_every_figure_with_its_meaning(client, job, work_off):
    source = _source(client, job, work_off, signals.both(signals.sine(1000, -23, 5)))
    page = client.get(f"/sources/{source}/reading").text
    for words in ("−23.0 LUFS", "largest short-term loudness", "Loudest 3 s, at 0:00.0", "+1.00", "24 of 24"):
        assert words in page
    assert "Both sides carry the same signal" in page


def test_a_source_without_a_reading_has_no_page_yet(client, job, work_off):
    source = upload(client, job, "mix.wav", wav(signals.noise(1))).json["source"]
    for part in ("reading", "series", "waveform/0/0"):
        assert client.get(f"/sources/{source}/{part}").status_code == 404


def test_waveform_bins_hold_the_extremes_of_the_file(client, job, work_off):
    signal = signals.programme(5, seed=8)
    source = _source(client, job, work_off, signal)
    bins = np.frombuffer(client.get(f"/sources/{source}/waveform/0/0").data, "<i2").reshape(-1, 2, 3)
    assert len(bins) == 2048
    hop = signal[48 * 700 : 48 * 701]
    assert bins[700, :, 0] / FULL_SCALE == pytest.approx(hop.min(axis=0), abs=1e-4)
    assert bins[700, :, 1] / FULL_SCALE == pytest.approx(hop.max(axis=0), abs=1e-4)
    assert len(client.get(f"/sources/{source}/waveform/0/2").data) == (5000 - 4096) * 2 * 3 * 2
    assert client.get(f"/sources/{source}/waveform/9/0").status_code == 404


def test_samples_come_as_they_are(client, job, work_off):
    signal = np.round(signals.noise(1, seed=8) * 2**23) / 2**23
    source = _source(client, job, work_off, signal)
    chunk = np.frombuffer(client.get(f"/sources/{source}/samples/2").data, "<f4").reshape(-1, 2)
    assert np.array_equal(chunk, signal[32_768:].astype("f4"))
    assert client.get(f"/sources/{source}/samples/900").data == b""


def test_series_hold_momentary_short_term_and_correlation(client, job, work_off):
    source = _source(client, job, work_off, signals.both(signals.sine(1000, -23, 5)) * [1, -1])
    momentary, short_term, correlation = np.frombuffer(client.get(f"/sources/{source}/series").data, "<f4").reshape(
        3, -1
    )
    assert np.isnan(momentary[:3]).all()
    assert momentary[10:49] == pytest.approx(-23.0, abs=0.1)
    assert short_term[35:49] == pytest.approx(-23.0, abs=0.1)
    assert correlation[1:49] == pytest.approx(-1.0, abs=1e-6)


def test_what_is_slow_to_open_is_played_from_a_copy(client, job, work_off, tmp_path):
    lossless = signals.write(tmp_path / "a.wav", signals.noise(2, seed=3))
    subprocess.run(["ffmpeg", "-loglevel", "error", "-i", lossless, "-c:a", "aac", tmp_path / "a.m4a"], check=True)
    source = upload(client, job, "a.m4a", (tmp_path / "a.m4a").read_bytes()).json["source"]
    work_off()
    assert client.get(f"/sources/{source}/samples/5").status_code == 200
    assert len(client.get(f"/hear/source-{source}/48000/1").data) == 48_000 * 2 * 4


def test_the_set_rings_and_names_what_stands_out(client, job, work_off):
    for seed in range(5):
        upload(client, job, f"part {seed}.wav", wav(signals.noise(3, -23 + 0.2 * seed, seed=seed)))
    loud = _source(client, job, work_off, signals.noise(3, -8, seed=9).clip(-0.9, 0.9), "too loud.wav")
    page = client.get(f"/jobs/{job.id}/spread").text
    assert "6 sources · 1 stands out" in page
    ringed = page[page.index(f'data-source="{loud}"') :]
    assert "integrated loudness apart" in ringed
    assert f"/jobs/{job.id}#source-{loud}" in page
    assert "Correlation" in client.get(f"/jobs/{job.id}/spread?x=correlation&y=nonsense").text


def test_a_set_of_nothing_says_so(client, job):
    assert "No source of this job is measured yet." in client.get(f"/jobs/{job.id}/spread").text


def test_neighbours_give_their_notes_to_rows_and_page(client, job, work_off):
    for seed in range(4):
        upload(client, job, f"{seed}.wav", wav(signals.noise(2, -23, seed=seed)))
    odd = _source(client, job, work_off, signals.noise(2, -23, channels=1, seed=9), "odd.wav")
    words = "1 channel, where most sources of the job have 2."
    assert words in client.get(f"/jobs/{job.id}").text
    assert words in client.get(f"/sources/{odd}/reading").text


def test_a_bad_address_is_answered_in_a_sentence(client, job):
    assert client.get("/sources/99/reading", headers=JSON).status_code == 404


def test_what_is_spoken_is_told_by_itself(client, job, work_off):
    sound = 0.1 * signals.sine(440, -20.0, 3)
    talk = episodes.spoken(0, 0)
    speaking = upload(client, job, "talk.wav", wav(talk)).json["source"]
    playing = upload(client, job, "tone.wav", wav(sound)).json["source"]
    assert client.get(f"/sources/{speaking}/speech").status_code == 404
    work_off()
    told = client.get(f"/sources/{speaking}/speech").text
    assert re.search(r"Speech alone.*?−2[23]\.\d LUFS", told, re.S)
    assert re.search(r"(9\d|100) %", told)
    assert "nobody speaks in it" in client.get(f"/sources/{playing}/speech").text
    assert "data-at-once" in client.get(f"/sources/{speaking}/reading").text
