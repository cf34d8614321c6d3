"""From a dropped mix to what the receiving desk answers, in a real browser."""

import io
import re
from pathlib import Path

import psycopg
import pypdf
from playwright.sync_api import expect

from nicelevel.report.words import level
from tests import signals

from .test_board import cell, drop, measured


def _made(live, job):
    """What the database keeps of the deliverables of a job."""
    query = """SELECT d.file_name, d.sha256, d.size_bytes, d.findings FROM deliverable d
               JOIN source s ON s.id = d.source_id WHERE s.job_id = %s AND d.state = 'proved'"""
    with psycopg.connect(live.database_url()) as connection:
        return connection.execute(query, (job,)).fetchall()


def _to_handover(board):
    board.keyboard.press("h")
    expect(board.locator("h1")).to_have_text("Handover")
    expect(board.locator("#tree")).to_be_visible()
    board.wait_for_load_state()


def test_from_a_dropped_mix_to_accepted_by_the_receiver(board, live, tmp_path):
    drop(board, signals.write(tmp_path / "Night ferry.wav", 0.3 * signals.programme(12, seed=3)))
    measured(board, "Night ferry")
    cell(board, "Night ferry", "Podcast").click()
    _to_handover(board)
    planned = board.locator("#tree tr[data-state=planned]")
    expect(planned.first).to_be_visible()
    names = planned.locator("td.name").all_inner_texts()
    assert "Night ferry_podcast.mp3" in names
    board.keyboard.press("s")
    expect(board.locator("#sendings article[data-state=failed]")).to_contain_text("Nothing of this job is proved")

    board.keyboard.press("r")
    expect(board.locator("#tree tr[data-state=proved]")).to_have_count(len(names))
    assert board.locator("#tree tr[data-state=proved] td.name").all_inner_texts() == names
    board.keyboard.press("s")
    expect(board.locator("#sendings article").first).to_have_attribute("data-state", "accepted")
    expect(board.locator("#tree tr[data-state=proved]").first).to_contain_text("accepted")

    made = _made(live, int(board.url.split("/")[-2]))
    shown = board.locator("#tree td.digest").all_inner_texts()
    assert sorted(shown) == sorted(sha256[:8] for _, sha256, _, _ in made)
    pdf = board.request.get(live.address.rstrip("/") + board.get_attribute("text=PDF", "href")).body()
    text = "\n".join(page.extract_text() for page in pypdf.PdfReader(io.BytesIO(pdf)).pages)
    for _, sha256, size_bytes, findings in made:
        assert sha256 in re.sub(r"\s", "", text)
        assert f"{size_bytes:,} bytes" in text
        for finding in findings:
            if finding["rule"] in ("integrated", "max_true_peak_dbtp"):
                assert level(finding["found"], decimals=2) in text


def test_a_rejected_package_says_why(board, live, tmp_path):
    copy = Path(live.data_folder) / "receiving-desk" / "specs" / "podcast.toml"
    before = copy.read_text()
    copy.write_text(before.replace("target = -16.0", "target = -30.0"))
    try:
        drop(board, signals.write(tmp_path / "Storm.wav", 0.3 * signals.programme(8, seed=5)))
        measured(board, "Storm")
        cell(board, "Storm", "Podcast").click()
        board.keyboard.press("r")
        expect(cell(board, "Storm", "Podcast")).to_have_attribute("data-state", "proved")
        _to_handover(board)
        board.keyboard.press("s")
        sent = board.locator("#sendings article").first
        expect(sent).to_have_attribute("data-state", "rejected")
        expect(sent).to_contain_text("Storm_podcast.mp3")
        expect(sent).to_contain_text("asked integrated −30.0")
    finally:
        copy.write_text(before)
