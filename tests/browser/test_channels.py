"""The Channels view in a real browser: by keyboard alone, by dragging, and taken apart."""

import json
import re

import pytest
from playwright.sync_api import expect

from nicelevel.core.programmes import join
from tests import signals

from .conftest import box_of
from .test_board import drop, measured, row


@pytest.fixture
def screen(board, tmp_path):
    """The view of a file with three programmes, opened from the board by its key."""
    sounds = [signals.programme(3, channels=channels, seed=channels) for channels in (6, 2, 1)]
    paths = [signals.write(tmp_path / f"{number}.wav", each) for number, each in enumerate(sounds)]
    drop(board, join(paths, tmp_path / "Show.wav", ["Full mix", "For two", "Voice"]).path)
    return _opened(board, "Show")


def _opened(board, title):
    measured(board, title)
    row(board, title).locator("td.cell").first.click()
    expect(board.locator(".close-up [data-open-channels]")).to_be_attached()
    board.keyboard.press("k")
    board.wait_for_url("**/channels")
    expect(board.locator("#channels [data-alone='0']")).to_contain_text("−")
    return board


@pytest.fixture
def pair(board, tmp_path):
    """The same of a stereo file whose sides are alike."""
    drop(board, signals.write(tmp_path / "Pair.wav", signals.both(signals.noise(4, channels=1))))
    return _opened(board, "Pair")


def _rows(page):
    return json.loads(page.locator("#channels").get_attribute("data-crossing"))["rows"]


def _drawn(page, label):
    expect(page.locator(".crossing.chosen")).to_have_attribute("aria-label", label)


def test_one_channel_by_keyboard_alone_kept_and_taken_back(pair):
    pair.keyboard.press("u")
    expect(pair.locator(".said")).to_contain_text("Equal sides keep their level: 0 dB.")
    expect(pair.locator("[data-level]")).to_contain_text("dBTP")
    expect(pair.locator(".said")).to_contain_text("It becomes about 3.0 LU quieter.")
    pair.keyboard.press("ArrowRight")
    _drawn(pair, "R into One channel: −6 dB")
    pair.keyboard.press("-")
    _drawn(pair, "R into One channel: −6.5 dB")
    pair.keyboard.press("i")
    _drawn(pair, "R into One channel: −6.5 dB, turned over")
    expect(pair.locator(".dip")).to_contain_text("L and R against each other")
    pair.keyboard.press("0")
    _drawn(pair, "R into One channel: off")
    expect(pair.locator(".said")).to_contain_text("R is left out.")
    pair.keyboard.press("u")  # what is no usual way becomes the first
    expect(pair.locator(".crossing")).to_have_count(4)
    pair.keyboard.press("u")
    expect(pair.locator("[data-preset][aria-pressed=true]")).to_contain_text("One: half of each")
    pair.keyboard.press("Enter")
    expect(pair.locator(".said")).to_contain_text("So it is.")
    expect(pair.locator(".said")).to_contain_text("With all its steps it has")
    pair.reload()
    assert _rows(pair) == [[0.5, 0.5]]
    expect(pair.locator("#channels [data-alone='0']")).to_contain_text("−")
    pair.keyboard.press("z")
    expect(pair.locator(".crossing")).to_have_count(4)
    assert _rows(pair) == [[1, 0], [0, 1]]
    pair.keyboard.press("Escape")
    pair.wait_for_url("**/jobs/*")


def test_what_was_changed_a_moment_ago_is_kept_before_it_is_drawn(pair):
    """What is drawn is still what was kept: that is not what is meant."""
    pair.keyboard.press("u")
    expect(pair.locator(".crossing")).to_have_count(2)
    pair.keyboard.press("Enter")
    expect(pair.locator("#channels[data-kept]")).to_be_attached()
    pair.route("**/draft*", lambda route: (pair.wait_for_timeout(400), route.continue_()))
    with pair.expect_request(lambda asked: asked.method == "POST" and asked.url.endswith("/channels")):
        pair.keyboard.press("i")
        pair.keyboard.press("Enter")
    expect(pair.locator(".crossing.chosen")).to_have_attribute("aria-label", re.compile("turned over"))
    expect(pair.locator("#channels[data-kept]")).to_be_attached()
    pair.unroute_all(behavior="wait")


def test_a_disc_is_dragged(pair):
    pair.locator("[data-preset]").nth(3).click()
    disc = pair.locator(".crossing[data-column='1'] circle")
    expect(pair.locator(".crossing")).to_have_count(2)
    box = box_of(disc)
    x, y = box["x"] + box["width"] / 2, box["y"] + box["height"] / 2
    pair.mouse.move(x, y)
    pair.mouse.down()
    pair.mouse.move(x, y + 12, steps=3)
    pair.mouse.move(x, y + 24, steps=3)
    pair.mouse.up()
    _drawn(pair, "R into One channel: −3 dB")
    expect(pair.locator(".said")).to_contain_text("Nothing is kept yet.")


def test_programmes_become_rows_of_the_board_and_one_again(screen):
    expect(screen.locator(".right")).to_contain_text("Programmes in one file")
    screen.click("button[name=apart]")
    screen.wait_for_url("**/jobs/*")
    for title in ("Show Full mix", "Show For two", "Show Voice"):
        measured(screen, title)
    expect(screen.locator("tr[data-source]")).to_have_count(3)
    screen.keyboard.press("z")
    expect(screen.locator("tr[data-source]")).to_have_count(1)
    measured(screen, "Show")


def test_a_crossing_is_moved_and_heard_before_it_is_kept(pair):
    """What comes is asked for with the crossing as it is drawn, and the player goes on through a change."""
    asked = []
    pair.on("request", lambda request: asked.append(request.url) if "/channels/hear/" in request.url else None)
    pair.keyboard.press("u")
    expect(pair.locator("#channels-hear [data-take='channels-after']")).to_have_attribute(
        "data-stamp", re.compile("mono")
    )
    pair.keyboard.press("2")
    pair.keyboard.press(" ")
    expect(pair.locator("#channels-hear .hear")).to_have_attribute("data-state", "playing")
    assert any("hear/after" in url for url in asked)
    pair.keyboard.press("ArrowRight")
    pair.keyboard.press("i")
    _drawn(pair, "R into One channel: −6 dB, turned over")
    expect(pair.locator("#channels-hear .hear")).to_have_attribute("data-state", "playing")
    pair.keyboard.press("3")
    pair.wait_for_timeout(300)
    assert any("hear/lost" in url and "-0.5" in url for url in asked)
    expect(pair.locator("#channels-hear [data-take='channels-lost']")).to_have_attribute("aria-pressed", "true")
    pair.keyboard.press(" ")
    expect(pair.locator("#channels-hear .hear")).to_have_attribute("data-state", "still")
