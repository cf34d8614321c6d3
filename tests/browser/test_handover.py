"""From a dropped mix to what the receiving desk answers, in a real browser."""

import io
import re
from pathlib import Path

import psycopg
import pypdf
from playwright.sync_api import expect

from nicelevel.report.words import level
from tests import signals
from tests.faults.hands import standing_still

from .test_board import cell, drop, measured, row


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


def test_what_has_no_plan_yet_is_said_where_rendering_is_asked_for(board, live, tmp_path):
    with standing_still([live.worker_pid()]):
        drop(board, signals.write(tmp_path / "Long.wav", signals.programme(6, seed=3)))
        row(board, "Long").wait_for()
        places = board.locator("th.dest").count()
        board.keyboard.press("h")
        expect(board.locator("h1")).to_have_text("Handover")
        board.wait_for_load_state()
        board.keyboard.press("r")
        expect(board.locator(".word")).to_have_text(f"{places} have no plan yet: render them once they have.")


def test_what_is_on_the_queue_is_not_offered_to_be_rendered(board, live, tmp_path):
    drop(board, signals.write(tmp_path / "Long.wav", 0.3 * signals.programme(6, seed=3)))
    measured(board, "Long")
    _to_handover(board)
    with standing_still([live.worker_pid()]):
        files = board.locator("#tree tr[data-state=planned]").count()
        render = board.locator("#handover-package button", has_text="Render")
        expect(render).to_have_text(f"Render {files} R")
        board.keyboard.press("r")
        expect(board.locator("#tree tr[data-state=queued]")).to_have_count(files)
        expect(render).to_have_count(0)
        expect(board.locator("#handover-summary")).to_contain_text(f"{files} planned")
    expect(board.locator("#tree tr[data-state=proved]")).to_have_count(files)


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


def test_programmes_are_put_in_one_file_taken_in_again_and_split(board, tmp_path):
    """Built on the handover, written, proved by what is read of it, and rows of the board again."""
    for name, channels in (("Full mix", 6), ("For two", 2)):
        drop(board, signals.write(tmp_path / f"{name}.wav", signals.programme(4, channels=channels, seed=channels)))
        measured(board, name)
    board.keyboard.press("R")
    for name in ("Full mix", "For two"):
        expect(cell(board, name, "European")).to_have_attribute("data-state", "proved")
    _to_handover(board)
    board.click("#in-one summary")
    parts = board.locator("#in-one .part")
    parts.filter(has_text="5.1").first.locator("input[name=file]").check()
    board.click("#in-one button:not([data-contribute])")
    expect(board.locator(".word")).to_contain_text("two files at least")
    parts.filter(has_text="stereo").first.locator("input[name=file]").check()
    expect(board.locator("[data-ribbon] .programme")).to_have_count(2)
    board.fill("#in-one input[name=start]", "10:00:00:99")
    board.click("#in-one button:not([data-contribute])")
    expect(board.locator(".word")).to_contain_text("There is no 10:00:00:99 at 25 frames a second.")
    board.fill("#in-one input[name=start]", "10:00:00:00")
    with board.expect_download() as coming:
        board.click("#in-one button:not([data-contribute])")
    whole = tmp_path / "All of it.wav"
    coming.value.save_as(whole)
    board.click("#in-one [data-contribute]")
    expect(board.locator("#sendings")).to_contain_text("contribution, 10:00:00:00")
    expect(board.locator("#sendings article")).to_have_attribute("data-state", "rejected", timeout=30_000)
    expect(board.locator("#sendings")).to_contain_text("LFE holds more than bass")
    board.keyboard.press("Escape")
    board.wait_for_url(re.compile("/jobs/[0-9]+$"))
    drop(board, whole)
    measured(board, "All of it")
    row(board, "All of it").locator("td.cell").first.click()
    expect(board.locator(".close-up [data-open-channels]")).to_be_attached()
    board.keyboard.press("k")
    board.wait_for_url("**/channels")
    board.click("button[name=apart]")
    board.wait_for_url(re.compile("/jobs/[0-9]+"))
    measured(board, "All of it Full mix")
    measured(board, "All of it For two")
