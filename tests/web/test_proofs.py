"""Proof sheets as a page, PDF, JSON and CSV: what stands there is what is in the database."""

import csv
import io
import json
import re
import zipfile

import pypdf
import pytest

from nicelevel.core.specs import parse_spec
from nicelevel.core.specs.library import shipped_toml
from nicelevel.report.words import level
from nicelevel.store.deliverables import deliverables_of
from nicelevel.store.jobs import add_destination, make_job
from nicelevel.store.specs import keep_version
from tests import signals

from .uploading import JSON, upload, wav


@pytest.fixture
def proved(client, job, work_off):
    """A job with one source, proved at four destinations."""
    upload(client, job, "Night ferry.wav", wav(signals.programme(9, seed=2)))
    work_off()
    client.post(f"/jobs/{job.id}/render", headers=JSON)
    work_off()
    made = deliverables_of(job.id)
    assert {each.state for each in made} == {"proved"}
    return made


def _text_of(pdf):
    return "\n".join(page.extract_text() for page in pypdf.PdfReader(io.BytesIO(pdf)).pages)


def test_the_pdf_says_what_was_proved_on_one_a4_page(client, proved):
    for made in proved:
        pdf = client.get(f"/deliverables/{made.id}/proof.pdf").data
        pages = pypdf.PdfReader(io.BytesIO(pdf)).pages
        assert len(pages) == 1
        assert [round(float(side)) for side in pages[0].mediabox[2:]] == [595, 842]
        text = _text_of(pdf)
        assert "Night ferry" in text
        assert f"{made.size_bytes:,} bytes" in text
        assert made.sha256 in re.sub(r"\s", "", text)
        assert len(made.findings) == text.count("✓")
        for finding in made.findings:
            if finding["rule"] in ("integrated", "max_true_peak_dbtp"):
                assert level(finding["found"], decimals=2) in text


def test_the_page_needs_nothing_from_elsewhere(client, proved):
    answer = client.get(f"/deliverables/{proved[0].id}/proof")
    assert "default-src 'none'" in answer.headers["Content-Security-Policy"]
    assert not re.findall(r'(?:src|href)="(?!data:)', answer.text)
    assert "<script" not in answer.text
    assert "Meets all" in answer.text


def _rows(client, address):
    return list(csv.DictReader(io.StringIO(client.get(address).text)))


def test_csv_and_json_hold_every_rule_of_every_file(client, proved):
    """A program reads figures with the usual minus and no unit beside them."""
    job_id = proved[0].source.job_id
    rows = _rows(client, f"/jobs/{job_id}/proof.csv")
    assert [row["sha256"] for row in rows] == [made.sha256 for made in proved]
    assert {row["meets"] for row in rows} == {"yes"}
    for row, made in zip(rows, proved, strict=True):
        assert float(row["integrated_lufs"]) == pytest.approx(made.measured["integrated_lufs"], abs=0.0006)
        assert float(row["gain_db"]) == pytest.approx(made.plan["gain_db"], abs=0.0006)
        assert int(row["size_bytes"]) == made.size_bytes
    rules = _rows(client, f"/jobs/{job_id}/proof-rules.csv")
    assert len(rules) == sum(len(made.findings) for made in proved)
    (level,) = [row for row in rules if row["rule"] == "integrated" and row["file"] == proved[0].file_name]
    assert level["unit"] == "LUFS"
    assert float(level["lowest"]) <= float(level["proved"]) <= float(level["highest"])
    found = client.get(f"/jobs/{job_id}/proof.json").json["deliverables"]
    assert [each["sha256"] for each in found] == [made.sha256 for made in proved]
    assert found[0]["findings"] == proved[0].findings


def test_a_package_brings_its_proof(client, proved):
    job_id = proved[0].source.job_id
    package = zipfile.ZipFile(io.BytesIO(client.get(f"/jobs/{job_id}/package.zip").data))
    assert package.testzip() is None
    papers = {"proof.pdf", "proof.html", "proof.csv", "proof-rules.csv", "proof.json"}
    assert papers <= set(package.namelist())
    sheets = package.read("proof.html").decode()
    for entry in json.loads(package.read("manifest.json"))["files"]:
        path = entry["spec"]["path"]
        assert f"--spec {path}" in sheets
        assert parse_spec(package.read(path).decode(), entry["spec"]["slug"]).spec.name == entry["spec"]["name"]
    assert len(pypdf.PdfReader(io.BytesIO(package.read("proof.pdf"))).pages) == len(proved)
    listed = json.loads(package.read("proof.json"))["deliverables"]
    assert {each["file"] for each in listed} == {made.file_name for made in proved}


def test_the_sheet_names_the_version_that_the_file_was_judged_by(client, store, work_off):
    toml = shipped_toml("european-broadcast").replace("European broadcast", "Night radio")
    keep_version("night-radio", toml)
    job = make_job("Radio", slugs=())
    add_destination(job.id, "night-radio")
    upload(client, job, "mix.wav", wav(signals.noise(4, -30)))
    work_off()
    client.post(f"/jobs/{job.id}/render", headers=JSON)
    work_off()
    (made,) = deliverables_of(job.id)
    keep_version("night-radio", toml.replace("-23.0", "-26.0"))
    page = client.get(f"/deliverables/{made.id}/proof").text
    assert "spec version 1" in page
    assert "−23.0 ±0.5\u00a0LUFS" in page
    assert client.get("/jobs/1000/proof.csv").status_code == 404


def test_what_misses_says_so_on_its_sheet(client, proved, store):
    made = proved[0]
    made.findings[0]["meets"] = False
    made.save()
    page = client.get(f"/deliverables/{made.id}/proof").text
    assert "Misses one of" in page
    assert page.count("✗") == 1
