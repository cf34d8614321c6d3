"""The real thing in a real browser: from a dropped mix to a proved deliverable."""

import base64
import hashlib
import os
import re
import signal
import time
import zipfile

import numpy as np
import psycopg
import pytest
import soundfile
from playwright.sync_api import expect

from nicelevel.web.board import FIRST_ROWS
from tests import reference, signals
from tests.faults.hands import standing_still

from .conftest import box_of

DROP = """
([files]) => {
  const transfer = new DataTransfer();
  for (const [name, data] of files) {
    const bytes = Uint8Array.from(atob(data), (sign) => sign.charCodeAt(0));
    transfer.items.add(new File([bytes], name));
  }
  const fire = (kind) => document.body.dispatchEvent(
    new DragEvent(kind, { dataTransfer: transfer, bubbles: true, cancelable: true }));
  fire("dragenter"); fire("dragover");
  window.sawVeil = document.querySelector(".drop-veil");
  fire("drop");
}
"""


def drop(page, *paths):
    """Let go of files over the page."""
    files = [(path.name, base64.b64encode(path.read_bytes()).decode()) for path in paths]
    page.evaluate(DROP, [files])


def row(page, title):
    return page.locator("tbody tr", has=page.locator("b", has_text=re.compile(f"^{re.escape(title)}$")))


def cell(page, title, destination):
    names = page.locator("th.dest").all_inner_texts()
    column = next(n for n, name in enumerate(names) if destination in name)
    return row(page, title).locator("td.cell").nth(column)


def measured(page, title):
    expect(row(page, title)).to_have_attribute("data-state", "measured")


def test_from_a_dropped_mix_to_a_proved_deliverable(board, tmp_path):
    mix = signals.write(tmp_path / "Night ferry.wav", 0.3 * signals.programme(20, seed=3))
    drop(board, mix)
    measured(board, "Night ferry")
    truth = reference.read(soundfile.read(mix)[0], 48_000)
    figures = row(board, "Night ferry").locator("td.num").all_inner_texts()
    assert figures[0] == f"−{abs(truth.integrated_lufs):.1f}"
    podcast = cell(board, "Night ferry", "European broadcast")
    podcast.click()
    expect(board.locator(".close-up h2")).to_have_text("Lands by gain alone")
    board.keyboard.press("r")
    expect(podcast).to_have_attribute("data-state", "proved")
    expect(board.locator(".close-up h2")).to_have_text("Written, read back and proved")
    with board.expect_download() as started:
        board.click(".close-up summary:has-text('More')")
        board.click("text=Download")
    path = tmp_path / "download.wav"
    started.value.save_as(path)
    assert started.value.suggested_filename == "Night ferry_european-broadcast.wav"
    assert reference.read(soundfile.read(path)[0], 48_000).integrated_lufs == pytest.approx(-23.0, abs=0.05)


def test_a_package_holds_all_that_was_proved(board, tmp_path):
    drop(board, signals.write(tmp_path / "one.wav", 0.2 * signals.programme(6, seed=1)))
    drop(board, signals.write(tmp_path / "two.flac", 0.2 * signals.programme(6, seed=2)))
    for title in ("one", "two"):
        measured(board, title)
    board.click("#actions .main")
    expect(board.locator("#summary")).to_contain_text("proved")
    expect(board.locator("#actions .main")).to_be_disabled()
    with board.expect_download() as started:
        board.keyboard.press("P")
    started.value.save_as(tmp_path / "package.zip")
    package = zipfile.ZipFile(tmp_path / "package.zip")
    lines = [line.split("  ") for line in package.read("SHA256SUMS.txt").decode().splitlines()]
    assert len(lines) == board.locator("td.cell[data-state=proved]").count() > 0
    for digest, name in lines:
        assert hashlib.sha256(package.read(name)).hexdigest() == digest


def test_bad_files_get_their_sentence_and_the_rest_goes_on(board, tmp_path):
    (tmp_path / "notes.wav").write_text("Dear engineer, here is the mix.")
    (tmp_path / "nothing.wav").touch()
    broken = signals.write(tmp_path / "broken.wav", signals.noise(2))
    broken.write_bytes(broken.read_bytes()[:100_000])
    wild = signals.noise(1)
    wild[100] = np.nan
    files = [
        tmp_path / "notes.wav",
        tmp_path / "nothing.wav",
        broken,
        signals.write(tmp_path / "wild.wav", wild, subtype="FLOAT"),
        signals.write(tmp_path / "frame.wav", np.full((1, 2), 0.5)),
        signals.write(tmp_path / "silent.wav", signals.silence(3)),
        signals.write(tmp_path / "ten.wav", signals.noise(3, channels=10)),
        signals.write(tmp_path / "good.wav", signals.noise(3)),
    ]
    drop(board, *files)
    measured(board, "good")
    for title, sentence in {
        "notes": "This is not an audio file",
        "nothing": "The file is empty",
        "broken": "its header promises 2.000 s",
        "wild": "not numbers",
    }.items():
        expect(row(board, title)).to_have_attribute("data-state", "failed")
        expect(row(board, title)).to_contain_text(sentence)
    for title, sentence in {
        "frame": "Shorter than 0.4 s",
        "silent": "Digital silence",
        "ten": "10 channels in no known layout",
    }.items():
        measured(board, title)
        cell(board, title, "European broadcast").click()
        expect(board.locator(".why")).to_contain_text(sentence)
    row(board, "notes").locator("text=Remove").click()
    expect(row(board, "notes")).to_have_count(0)


def test_what_has_no_plan_yet_is_said_not_to_be_on_the_queue(board, live, tmp_path):
    with standing_still([live.worker_pid()]):
        drop(board, signals.write(tmp_path / "Long.wav", signals.programme(6, seed=3)))
        row(board, "Long").wait_for()
        board.keyboard.press("Shift+R")
        expect(board.locator(".word")).to_have_text(
            f"{board.locator('th.dest').count()} have no plan yet: render them once they have."
        )
    measured(board, "Long")


@pytest.mark.parametrize("key", ["Enter", "c", "k", "p"])
def test_a_key_that_has_nothing_to_open_says_so(board, key):
    board.wait_for_load_state()
    board.keyboard.press(key)
    expect(board.locator("[role=status]").last).to_have_text(re.compile("^Nothing is measured here yet"))


def test_arrow_keys_walk_the_board_and_keys_are_listed(board, tmp_path):
    for number in range(3):
        drop(board, signals.write(tmp_path / f"take {number}.wav", signals.noise(1, seed=number)))
        measured(board, f"take {number}")
    cell(board, "take 0", "European").click()
    board.keyboard.press("ArrowDown")
    board.keyboard.press("ArrowRight")
    chosen = cell(board, "take 1", "Podcast")
    expect(chosen).to_have_class(re.compile("cur"))
    expect(board.locator(".close-head b")).to_have_text("take 1")
    board.keyboard.press("End")
    expect(cell(board, "take 2", "Podcast")).to_have_class(re.compile("cur"))
    board.keyboard.press("?")
    expect(board.locator("dialog.keys")).to_be_visible()
    expect(board.locator("dialog.keys")).to_contain_text("render the chosen cell")
    board.keyboard.press("Escape")
    expect(board.locator("dialog.keys")).to_be_hidden()


def test_destinations_are_taken_off_and_put_back(board):
    board.locator("th.dest", has_text="Podcast").hover()
    board.click("[aria-label='Take Podcast feed off this board']")
    expect(board.locator("th.dest")).to_have_count(3)
    board.click("text=Add destination")
    board.click(".adder form button")
    expect(board.locator("th.dest")).to_have_count(4)


def test_the_theme_is_remembered(board):
    before = board.evaluate("document.documentElement.dataset.bsTheme")
    board.keyboard.press("t")
    after = board.evaluate("document.documentElement.dataset.bsTheme")
    assert {before, after} == {"light", "dark"}
    board.reload()
    assert board.evaluate("document.documentElement.dataset.bsTheme") == after


def test_eight_sources_and_four_destinations_fit_without_overlap(board, tmp_path):
    for number in range(9):
        name = f"A rather long title of a mix {number}.wav"
        drop(board, signals.write(tmp_path / name, signals.noise(1, -23, seed=number)))
    expect(board.locator("tr[data-state=measured]")).to_have_count(9)
    expect(board.locator("tr.uploading")).to_have_count(0)
    board.locator("td.cell").first.click()
    board.wait_for_selector(".close-up svg")
    seen = board.evaluate("""() => {
        const bottom = (element) => element.getBoundingClientRect().bottom;
        const view = document.querySelector('main.rows');
        return [...view.querySelectorAll('tbody tr')].filter((row) => bottom(row) <= bottom(view)).length;
    }""")
    assert seen >= 8
    assert board.locator("th.dest").count() == 4
    assert board.evaluate("document.documentElement.scrollWidth") <= 1280
    clashes = board.evaluate("""() => [...document.querySelectorAll('.says')].filter((says) => {
        const [left, right] = [...says.children].map((child) => child.getBoundingClientRect());
        return right && left.right > right.left;
    }).length""")
    assert clashes == 0


def test_files_dropped_on_the_list_of_jobs_make_a_new_job(page, live, tmp_path):
    page.goto(live.address)
    drop(page, signals.write(tmp_path / "New client.wav", signals.noise(1)))
    page.wait_for_url("**/jobs/*")
    measured(page, "New client")
    expect(page.locator(".bar h1")).to_have_text("New client")


def test_a_worker_killed_in_the_middle_of_a_render_loses_nothing(board, live, tmp_path):
    drop(board, signals.write(tmp_path / "long.flac", 0.3 * signals.programme(150, seed=5), subtype="PCM_16"))
    measured(board, "long")
    broadcast = cell(board, "long", "European")
    broadcast.click()
    killed, end = live.worker_pid(), time.monotonic() + 30
    board.keyboard.press("r")
    # Not by what the page shows: it asks three times a second, and all of it takes a second or two.
    while not (begun := list((live.data_folder / "deliverables").rglob("*.part"))) and time.monotonic() < end:
        time.sleep(0.005)
    os.kill(killed, signal.SIGKILL)
    assert begun
    expect(broadcast).to_have_attribute("data-state", "rendering")
    board.close()
    again = board.context.new_page()
    again.goto(board.url)
    expect(cell(again, "long", "European")).to_have_attribute("data-state", "proved", timeout=60_000)
    assert live.worker_pid() != killed
    files = [path.name for path in (live.data_folder / "deliverables").rglob("*") if path.is_file()]
    assert "long_european-broadcast.wav" in files
    assert [name for name in files if name.endswith(".part")] == []


def test_rendering_can_be_stopped(board, tmp_path):
    drop(board, signals.write(tmp_path / "long.flac", 0.3 * signals.programme(120, seed=6), subtype="PCM_16"))
    measured(board, "long")
    board.keyboard.press("R")
    expect(board.locator("#actions")).to_contain_text("Stop")
    board.keyboard.press("x")
    expect(board.locator("td.cell[data-state=stopped]").first).to_be_visible()
    expect(board.locator("#actions .main")).to_be_enabled()


def test_streams_of_pages_that_are_gone_end(board, live, browser):
    """Each open board holds one listening connection; a closed page gives it back."""
    others = [browser.new_page() for _ in range(3)]
    for other in others:
        other.goto(board.url)
        other.wait_for_selector("th.dest")
    for other in others:
        other.close()
    end = time.monotonic() + 40
    while _listeners(live) > 1 and time.monotonic() < end:
        time.sleep(1)
    assert _listeners(live) <= 1


def _listeners(live):
    with psycopg.connect(live.database_url()) as connection:
        query = "SELECT count(*) FROM pg_stat_activity WHERE query LIKE 'LISTEN nice_level%'"
        return connection.execute(query).fetchone()[0]


def test_what_is_taken_away_comes_back_by_one_key(board, tmp_path):
    drop(board, signals.write(tmp_path / "kept.wav", signals.noise(2, -23, seed=4)))
    measured(board, "kept")
    chosen = cell(board, "kept", "Hand-over")
    chosen.click()
    board.keyboard.press("r")
    expect(chosen).to_have_attribute("data-state", "proved")
    board.keyboard.press("Delete")
    expect(row(board, "kept")).to_have_count(0)
    board.keyboard.press("z")
    expect(board.locator(".word")).to_contain_text("Taken back: took out kept.")
    expect(chosen).to_have_attribute("data-state", "proved")
    board.locator("th.dest", has_text="Hand-over").hover()
    board.click("[aria-label='Take Hand-over, full resolution off this board']")
    expect(board.locator("th.dest")).to_have_count(3)
    expect(board.locator("td.cur")).to_have_count(1)  # the page was loaded anew, and its keys work from here on
    board.keyboard.press("Control+z")
    expect(board.locator("th.dest")).to_have_count(4)
    expect(chosen).to_have_attribute("data-state", "proved")
    expect(board.locator("td.cur")).to_have_count(1)
    board.keyboard.press("F2")
    board.fill("dialog.ask input", "Kept for good")
    board.keyboard.press("Enter")
    expect(row(board, "Kept for good")).to_have_count(1)
    board.keyboard.press("Shift+Delete")
    expect(row(board, "Kept for good")).to_have_count(1)


def test_a_killed_supervisor_leaves_nobody_behind_and_starts_again(board, live):
    """Worker and web server end with it; the database that stays is stopped by the next start."""
    children = live.children()
    address = board.url
    board.close()
    live.kill()
    live.start()
    end = time.monotonic() + 20
    while any(os.path.exists(f"/proc/{pid}") for pid in children) and time.monotonic() < end:
        time.sleep(0.1)
    assert not any(os.path.exists(f"/proc/{pid}") for pid in children)
    page = board.context.new_page()
    page.goto(live.address + address.split("/", 3)[3])
    expect(page.locator(".bar h1")).to_have_text("Test work")


def test_a_file_let_go_before_the_page_can_take_it_is_taken(board, tmp_path):
    held = []
    board.route("**/drop.js", lambda route: held.append(route))
    board.reload(wait_until="commit")
    board.wait_for_selector("p.empty", state="attached")
    drop(board, signals.write(tmp_path / "Early.wav", signals.noise(2, seed=10)))
    held[0].continue_()
    measured(board, "Early")


def test_a_file_let_go_where_none_is_taken_does_not_lead_away(page, live, tmp_path):
    page.goto(f"{live.address}specs/")
    path = signals.write(tmp_path / "Lost.wav", signals.noise(1, seed=11))
    prevented = page.evaluate(
        DROP.replace('fire("drop");', 'return !fire("drop");'),
        [[(path.name, base64.b64encode(path.read_bytes()).decode())]],
    )
    assert prevented


def test_everything_ends_with_ctrl_c_and_comes_back_as_it_was(board, live, tmp_path):
    drop(board, signals.write(tmp_path / "kept.wav", signals.noise(2, seed=9)))
    measured(board, "kept")
    address = board.url
    board.close()
    children = live.children()
    assert live.stop() == 0
    assert not any(os.path.exists(f"/proc/{pid}") for pid in children)
    live.start()
    page = board.context.new_page()
    page.goto(live.address + address.split("/", 3)[3])
    measured(page, "kept")


def shows(page, *titles):
    """The rows that are shown, in their order."""
    expect(page.locator("tbody tr:visible b")).to_have_text(list(titles))


def test_rows_are_ordered_by_figures_and_filtered_by_words(board, tmp_path):
    levels = {"Alpha": -30, "Beta": -20, "Gamma": -25}
    drop(board, *(signals.write(tmp_path / f"{name}.wav", signals.noise(4, level)) for name, level in levels.items()))
    for name in levels:
        measured(board, name)
    taken_in = board.locator("tbody tr:visible b").all_inner_texts()
    board.click("[data-sort=integrated]")
    shows(board, "Beta", "Gamma", "Alpha")
    board.click("[data-sort=integrated]")
    shows(board, "Alpha", "Gamma", "Beta")
    board.click("[data-sort=integrated]")
    shows(board, *taken_in)
    board.click("[data-sort=title]")
    shows(board, "Alpha", "Beta", "Gamma")
    board.keyboard.press("f")
    board.keyboard.type("mm")
    shows(board, "Gamma")
    board.keyboard.press("Escape")
    shows(board, "Alpha", "Beta", "Gamma")
    board.keyboard.press("f")
    board.keyboard.type("gain be")
    shows(board, "Beta")


def test_of_the_versions_of_a_title_the_newest_counts_and_another_can_be_chosen(board, tmp_path):
    for number in (1, 2):
        drop(board, signals.write(tmp_path / f"Night ferry v{number}.wav", signals.noise(4, -20, seed=number)))
        measured(board, f"Night ferry v{number}")
    expect(board.locator("tr.older b")).to_have_text("Night ferry v1")
    shows(board, "Night ferry v2", "Night ferry v1")
    expect(board.locator("#summary")).to_contain_text("1 source")
    cell(board, "Night ferry v1", "European").click()
    expect(board.locator(".why")).to_contain_text("Night ferry v2 counts for this title: names and dates say")
    board.keyboard.press("v")
    expect(board.locator("tr.older b")).to_have_text("Night ferry v2")
    shows(board, "Night ferry v2", "Night ferry v1")
    cell(board, "Night ferry v2", "European").click()
    expect(board.locator(".why")).to_contain_text("Night ferry v1 was chosen for this title")
    board.click("text=Count both")
    expect(board.locator("tr.older")).to_have_count(0)
    expect(board.locator("#summary")).to_contain_text("2 sources")


def test_rows_far_from_the_view_are_filled_when_they_come_near(board, tmp_path):
    paths = [
        signals.write(tmp_path / f"take {number:02d}.wav", signals.noise(0.5, seed=number)) for number in range(60)
    ]
    drop(board, *paths)
    expect(board.locator("tr[data-state=measured]")).to_have_count(60, timeout=120_000)
    board.reload()
    expect(board.locator("#summary")).to_contain_text("60 sources")
    assert 0 < board.locator("tr[data-outline]").count() <= 36
    cell(board, "take 00", "European").click()
    board.keyboard.press("End")
    last = cell(board, "take 59", "European")
    expect(last).to_have_class(re.compile("cur"))
    expect(last.locator("svg.vial")).to_be_visible()
    expect(board.locator(".close-head b")).to_have_text("take 59")
    # It was an outline when it was chosen; and the close-up has come over where it stood.
    expect(last).to_be_focused()
    expect(last).to_be_in_viewport(ratio=0.9)
    assert board.evaluate("""() => {
        const bottom = (selector) => document.querySelector(selector).getBoundingClientRect().bottom;
        return bottom('td.cur') <= bottom('main.rows') + 1;
    }""")
    board.keyboard.press("f")
    board.keyboard.type("take 37")
    shows(board, "take 37")
    expect(cell(board, "take 37", "European").locator("svg.vial")).to_be_visible()


def test_a_changed_spec_is_followed_by_every_cell_of_its_column(board, live, tmp_path):
    for number in range(3):
        drop(board, signals.write(tmp_path / f"take {number}.wav", signals.noise(4, -30, seed=number)))
        measured(board, f"take {number}")
    job = board.url
    board.click("th.dest a:has-text('European')")
    board.click("text=Copy to change it")
    expect(board.locator(".about")).to_contain_text("version 1")
    slug = board.url.rpartition("/")[2].partition("?")[0]
    board.goto(job)
    board.click("summary:has-text('Add destination')")
    board.click(f".adder button[value={slug}]")
    column = board.locator("th.dest", has_text=", own")
    expect(column).to_contain_text("−23")
    bubbles = [cell(board, f"take {number}", ", own").locator(".stands") for number in range(3)]
    before = [bubble.get_attribute("cx") for bubble in bubbles]
    other = board.context.new_page()
    other.goto(f"{live.address}specs/{slug}")
    other.fill("[name='loudness.target']", "−27")
    other.click("text=Keep as version 2")
    expect(column).to_contain_text("−27")
    for bubble, was in zip(bubbles, before, strict=True):
        expect(bubble).not_to_have_attribute("cx", was)
    other.close()


def test_the_price_curve_is_dragged_to_an_own_target(board, tmp_path):
    drop(board, signals.write(tmp_path / "mix.wav", 0.3 * signals.programme(6, seed=3)))
    measured(board, "mix")
    place = cell(board, "mix", "Streaming")
    place.click()
    board.wait_for_timeout(800)  # the board asks for itself once more when its events begin
    board.hover(".price .grip", position={"x": 100, "y": 7})
    grip = box_of(board.locator(".price .grip"))
    x, y = grip["x"] + 100, grip["y"] + 7
    board.mouse.down()
    board.mouse.move(x, y + 15, steps=3)
    board.mouse.up()
    expect(place).to_contain_text("to −")
    expect(board.locator(".price")).to_contain_text("Its own target here")
    board.click("[data-spec-target]")
    expect(place).not_to_contain_text("to −")


def test_a_mix_and_its_stems_are_linked_by_a_key(board, tmp_path):
    stems = [0.2 * signals.programme(4, seed=seed) for seed in (7, 8)]
    for name, signal_of in (("song", sum(stems)), ("song_drums", stems[0]), ("song_bass", stems[1])):
        drop(board, signals.write(tmp_path / f"{name}.wav", signal_of))
        measured(board, name)
    expect(board.locator("tr.linked")).to_have_count(2)  # their names say so, and their sum
    cell(board, "song", "Podcast").click()
    expect(board.locator("[data-link]")).to_contain_text("Unlink the set")
    board.keyboard.press("l")
    expect(board.locator("tr.linked")).to_have_count(0)
    expect(board.locator("[data-link]")).to_contain_text("One gain for 3")
    gain = cell(board, "song", "Podcast").locator(".says .fig").first.inner_text()
    assert cell(board, "song_bass", "Podcast").locator(".says .fig").first.inner_text() != gain
    board.keyboard.press("l")
    expect(board.locator("tr.linked")).to_have_count(2)
    expect(cell(board, "song_bass", "Podcast").locator(".says .fig").first).to_have_text(gain)
    cell(board, "song", "Podcast").click()
    expect(board.locator(".why")).to_contain_text("The stems add up to the mix")
    board.keyboard.press("l")
    expect(board.locator("tr.linked")).to_have_count(0)


def test_the_bar_counts_what_changes_far_from_the_view(board, live, tmp_path):
    """Rows beyond the first are outlines: they are not fetched when they change, and count all the same."""
    for number in range(FIRST_ROWS + 12):
        drop(board, signals.write(tmp_path / f"prompt {number:02d}.wav", signals.noise(1, -30, seed=number)))
    expect(board.locator("tr[data-state=measured]")).to_have_count(FIRST_ROWS + 12)
    board.reload()
    expect(board.locator("#actions")).to_contain_text("Render")
    last = board.locator("tr[data-source]").last.get_attribute("data-source")
    place = board.locator("td.cell").first.get_attribute("data-destination")
    token = board.locator("meta[name=csrf-token]").get_attribute("content")
    form = {"source": last, "destination": place, "csrf_token": token}
    board.request.post(f"{board.url.partition('#')[0]}/render", form=form)
    expect(board.locator("#summary")).to_contain_text("1 proved")
    expect(board.locator("#running")).to_have_text("")
    assert board.locator("tr[data-source]").last.get_attribute("data-outline") is not None
    board.keyboard.press("End")
    board.keyboard.press("k")  # what is in the row is not there yet
    board.wait_for_url(f"**/sources/{last}/channels")


def test_two_files_of_one_channel_become_one_by_a_key_and_two_again(board, tmp_path):
    both = signals.programme(3, seed=6)
    for at, side in enumerate("LR"):
        drop(board, signals.write(tmp_path / f"Gallery {side}.wav", both[:, at : at + 1]))
    for side in "LR":
        measured(board, f"Gallery {side}")
    expect(board.locator("#questions")).to_contain_text("Gallery L and Gallery R: two sides of one?")
    expect(board.locator("#questions [data-key='I']")).to_contain_text("One stereo source")
    board.keyboard.press("i")
    measured(board, "Gallery")
    expect(board.locator("tr[data-source]")).to_have_count(1)
    expect(board.locator("#questions button")).to_have_count(0)
    board.keyboard.press("z")
    expect(board.locator("tr[data-source]")).to_have_count(2)
    for side in "LR":
        row(board, f"Gallery {side}").locator("td.name").click()
        board.keyboard.press("m")
    board.click(".picked-bar >> text=One source")
    expect(board.locator("tr[data-source]")).to_have_count(1)
    measured(board, "Gallery")


def test_a_guide_on_one_side_is_mended_by_a_key_and_its_unused_side_is_within_reach(board, tmp_path):
    voice = signals.programme(4, channels=1, seed=8)
    drop(board, signals.write(tmp_path / "Guide.wav", np.concatenate([voice, 0.0 * voice], axis=1)))
    measured(board, "Guide")
    row(board, "Guide").locator("td.cell").first.click()
    expect(row(board, "Guide").locator("td.name .work")).to_have_attribute("title", re.compile("One-sided"))
    board.keyboard.press("n")
    expect(row(board, "Guide").locator(".prepared")).to_have_text("mended")
    expect(row(board, "Guide")).to_contain_text("mono")
    expect(board.locator(".close-up .why")).to_contain_text("Only channel 1 of 2 kept.")
    board.keyboard.press("z")
    expect(row(board, "Guide").locator(".prepared")).to_have_count(0)
    expect(row(board, "Guide")).to_contain_text("stereo")


def test_an_answer_that_comes_late_does_not_land_on_a_newer_one(board, tmp_path):
    """The close-up as it was before something was prepared, asked for first, answered last."""
    voice = signals.programme(4, channels=1, seed=8)
    drop(board, signals.write(tmp_path / "Guide.wav", np.concatenate([voice, 0.0 * voice], axis=1)))
    measured(board, "Guide")
    row(board, "Guide").locator("td.cell").first.click()
    expect(board.locator(".close-up .why")).to_contain_text("Gain of")
    held = []

    def late(route):
        if held:
            route.continue_()
        else:
            held.append(route)

    board.route("**/close-up/**", late)
    board.keyboard.press("n")
    expect(row(board, "Guide").locator(".prepared")).to_have_text("mended")
    expect(board.locator(".close-up .why")).to_contain_text("Only channel 1 of 2 kept.")
    (route,) = held
    route.fulfill(body="<div class='why'>As it was before.</div>", content_type="text/html")
    board.wait_for_timeout(500)
    expect(board.locator(".close-up .why")).to_contain_text("Only channel 1 of 2 kept.")


def test_a_count_that_takes_its_time_is_asked_for_again_until_it_is_there(board, live):
    waited_ms = []

    def answer(route):
        waited_ms.append(int(route.request.url.partition("waited_ms=")[2]))
        route.continue_() if len(waited_ms) > 2 else route.fulfill(status=202, body="")

    job_id = board.url.rpartition("/")[2]
    board.route(f"**/jobs/{job_id}/row?*", answer)
    board.goto(live.address)
    expect(board.locator(f"#job-{job_id}:not([data-row])")).to_contain_text("Test work")
    assert waited_ms[0] < waited_ms[1] < waited_ms[2]


def test_what_a_page_is_made_of_is_fetched_once(board):
    fetched = """() => performance.getEntriesByType("resource").filter(
      ({ name, transferSize }) => name.includes("/static/") && transferSize > 0).length"""
    board.wait_for_selector("#summary .count")
    board.goto(board.url)
    board.wait_for_selector("#summary .count")
    assert board.evaluate(fetched) == 0
    assert board.evaluate("() => performance.getEntriesByType('resource').length") > 20
