"""Runs in a real browser: seen while they go on, stopped, and done again."""

import os
import signal

from playwright.sync_api import expect

from tests import signals

from .test_board import cell, drop, measured

SWAP = """async (html) => {
  const { swapParts } = await import(new URL("parts.js", document.querySelector("link[rel=icon]").href));
  swapParts(html);
}"""


def test_runs_are_seen_stopped_and_done_again(board, live, tmp_path):
    drop(board, signals.write(tmp_path / "Long.wav", 0.3 * signals.programme(30, seed=3)))
    measured(board, "Long")
    cell(board, "Long", "Podcast").click()
    going = board.locator("#runs-under-way tr[data-state]")
    # The worker is held, so that what is queued is still there when it is looked at.
    os.kill(live.worker_pid(), signal.SIGSTOP)
    try:
        board.keyboard.press("Shift+R")
        expect(board.locator("#running")).to_contain_text("to render")
        board.locator("#running a").click()
        expect(board.locator("h1")).to_have_text("Runs")
        board.wait_for_load_state()
        expect(going.first).to_contain_text("Long")
        board.keyboard.press("x")
        expect(going).to_have_count(0)
    finally:
        os.kill(live.worker_pid(), signal.SIGCONT)
    expect(board.locator("#runs-said")).to_contain_text("Nothing is being rendered")
    expect(board.locator("#runs-ended tr[data-state=stopped]").first).to_be_visible()
    stopped = board.locator("#runs-ended tr[data-state=stopped]").count()
    board.keyboard.press("a")
    expect(board.locator("#runs-ended tr[data-state=stopped]")).to_have_count(0)
    expect(going).to_have_count(0, timeout=120_000)
    expect(board.locator("#runs-ended tr[data-state=proved]")).to_have_count(stopped, timeout=120_000)


def test_an_older_answer_never_takes_the_place_of_a_newer_one(board, live, tmp_path):
    """Asked for before all was stopped, and there only afterwards: it would have shown what goes on, for good."""
    drop(board, signals.write(tmp_path / "Long.wav", 0.3 * signals.programme(30, seed=3)))
    measured(board, "Long")
    name = f"{live.address}sources/{board.locator('tr[data-source]').get_attribute('data-source')}/name"
    token = board.locator("meta[name=csrf-token]").get_attribute("content")
    going, answers = board.locator("#runs-under-way tr[data-state]"), []
    os.kill(live.worker_pid(), signal.SIGSTOP)
    try:
        board.keyboard.press("Shift+R")
        expect(board.locator("#running")).to_contain_text("to render")
        board.goto(f"{live.address}runs")
        expect(going.first).to_contain_text("Long")
        board.wait_for_timeout(1000)
        board.route("**/runs/parts*", lambda route: answers.append((route, route.fetch())), times=1)
        board.request.post(name, form={"title": "Long one", "csrf_token": token})
        while not answers:
            board.wait_for_timeout(20)
        with board.expect_response("**/stop"):
            board.keyboard.press("x")
        board.wait_for_timeout(1500)
        (route, answer), *_ = answers
        route.fulfill(response=answer)
        board.wait_for_timeout(1500)
        expect(going).to_have_count(0, timeout=1)
    finally:
        os.kill(live.worker_pid(), signal.SIGCONT)


def test_what_is_pressed_while_it_is_drawn_anew_still_does_what_it_says(page, live):
    """A click is made where the button went down: what lies under it is swapped when it is let go."""
    page.goto(f"{live.address}/specs")
    link = "document.querySelector('#running').innerHTML = '<a class=\"pill\" href=\"/runs\">1 to render</a>'"
    page.evaluate(link)
    page.locator("#running a").hover()
    page.mouse.down()
    page.evaluate(SWAP, '<span id="running">2 to render</span>')
    expect(page.locator("#running")).to_have_text("1 to render")
    page.mouse.up()
    expect(page.locator("h1")).to_have_text("Runs")
    page.go_back()
    page.locator("h1").hover()
    page.mouse.down()
    page.evaluate(SWAP, '<span id="running">2 to render</span>')
    expect(page.locator("#running")).to_have_text("2 to render")
    page.mouse.up()


def test_what_was_held_back_by_a_press_is_drawn_when_it_is_let_go(page, live):
    page.goto(f"{live.address}/specs")
    page.evaluate("document.querySelector('#running').innerHTML = '<b>1 to render</b>'")
    page.locator("#running b").hover()
    page.mouse.down()
    page.evaluate(SWAP, '<span id="running">none</span>')
    expect(page.locator("#running")).to_have_text("1 to render")
    page.mouse.up()
    expect(page.locator("#running")).to_have_text("none")
