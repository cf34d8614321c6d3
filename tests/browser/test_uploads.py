"""Uploads live while pages come and go, and go on after a reload, a killed server or a closed browser."""

import hashlib
import os
import re
import signal

import pytest
from playwright.sync_api import expect

from nicelevel.store.database import connected, open_database
from nicelevel.store.models import Source
from tests import signals
from tests.browser.conftest import PATIENCE_MS, make_job
from tests.faults.hands import wait_for

BIG_BYTES = 400_000_000


@pytest.fixture
def big(tmp_path):
    """A file that takes seconds to upload; what is in it does not matter here."""
    path = tmp_path / "long take.wav"
    block = os.urandom(1 << 20)
    with path.open("wb") as file:
        for number in range(BIG_BYTES >> 20):
            file.write(number.to_bytes(8, "big") + block[8:])
    return path


@pytest.fixture
def board(browser, live):
    """The board of a new job; pages and servers that go away are logged by the browser, which is no fault here."""
    context = browser.new_context()
    page = _new_board(context, live)
    yield page
    context.close()


def _new_board(context, live):
    page = context.new_page()
    page.set_default_timeout(PATIENCE_MS)
    page.goto(live.address)
    return make_job(page, "Test work")


def _choose(board, *paths):
    board.set_input_files("input[type=file]", [str(path) for path in paths])


def _job_of(board):
    return int(re.search(r"/jobs/(\d+)", board.url).group(1))


def _uploading(board):
    return board.locator("tr.uploading", has_text="uploading")


def _is_partly_there(board):
    expect(_uploading(board)).to_have_count(1)
    board.wait_for_function("() => document.querySelector('tr.uploading progress')?.value > 0.05")


def _arrived(board, live, *paths):
    job = _job_of(board)
    expect(board.locator("tr[data-source]")).to_have_count(len(paths), timeout=90_000)
    expect(board.locator("tr.uploading")).to_have_count(0, timeout=90_000)
    open_database(live.database_url())
    with connected():
        found = {row.file_name: row.digest for row in Source.select().where(Source.job == job)}
    assert found == {path.name: hashlib.sha256(path.read_bytes()).hexdigest() for path in paths}


def test_uploads_live_through_every_way_of_leaving_the_page(board, live, tmp_path):
    paths = [signals.write(tmp_path / f"take {n:02d}.wav", signals.noise(8, seed=n)) for n in range(15)]
    home = board.url
    _choose(board, *paths)
    board.keyboard.press("s")
    board.wait_for_url("**/spread*")
    board.go_back()
    board.reload()
    board.click("nav >> text=Specs")
    board.goto(home)
    _arrived(board, live, *paths)


def test_a_worker_that_stays_silent_is_replaced(board, live, tmp_path):
    silent_first = """
      const Real = SharedWorker;
      let met = 0;
      globalThis.SharedWorker = class extends Real {
        constructor(address, options) { super(met++ ? address : "/static/now/parts.js", options); }
      };
    """
    board.context.add_init_script(silent_first)
    board.reload()
    path = signals.write(tmp_path / "take.wav", signals.noise(2, seed=1))
    _choose(board, path)
    _arrived(board, live, path)


def test_a_reload_in_the_middle_goes_on(board, live, big):
    _choose(board, big)
    _is_partly_there(board)
    board.on("dialog", lambda dialog: dialog.accept())
    board.reload()
    _arrived(board, live, big)


def test_a_server_that_is_killed_in_the_middle_goes_on(board, live, big):
    _choose(board, big)
    _is_partly_there(board)
    (web,) = [pid for pid in live.children() if live.command_of(pid).endswith("web")]
    os.kill(web, signal.SIGKILL)
    _arrived(board, live, big)


def test_what_broke_off_with_the_browser_goes_on_when_the_file_is_dropped_again(browser, live, big):
    first = browser.new_context()
    page = _new_board(first, live)
    address = page.url
    _choose(page, big)
    _is_partly_there(page)
    first.close()
    second = browser.new_context()
    board = second.new_page()
    board.goto(address)
    expect(board.locator("tr.uploading")).to_contain_text("let the same file go here again and it goes on")
    done = board.locator("tr.uploading progress").get_attribute("value") or board.evaluate(
        "document.querySelector('tr.uploading progress').value"
    )
    assert 0 < float(done) < 1
    _choose(board, big)
    _arrived(board, live, big)
    second.close()


def test_an_upload_can_be_forgotten(board, live, big):
    _choose(board, big)
    _is_partly_there(board)
    board.click("text=Forget it")
    expect(board.locator("tr.uploading")).to_have_count(0)
    wait_for(lambda: not list((live.data_folder / "uploads").iterdir()))


def test_closing_the_page_is_asked_about(browser, live, big):
    context = browser.new_context()
    page = _new_board(context, live)
    page.click("h1")
    _choose(page, big)
    _is_partly_there(page)
    asked = []
    page.on("dialog", lambda dialog: (asked.append(dialog.type), dialog.dismiss()))
    page.close(run_before_unload=True)
    page.wait_for_timeout(500)
    assert asked == ["beforeunload"]
    context.close()
