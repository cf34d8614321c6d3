"""The Reading screen in a real browser: zooming to samples, jumping to notes, playing."""

import time

import numpy as np
import pytest
from playwright.sync_api import expect

from tests import signals

from .conftest import PATIENCE_MS, box_of
from .test_board import drop, measured, row

RATE = 48_000
HOLE_S = 14.0


@pytest.fixture
def reading(board, tmp_path):
    """The Reading screen of twenty seconds with a hole and a burst over full scale."""
    signal = 0.3 * signals.programme(20, seed=3) + 0.01 * signals.noise(20, seed=4)
    signal[round(HOLE_S * RATE) : round((HOLE_S + 0.2) * RATE)] = 0.0
    signal[6 * RATE : 6 * RATE + 480] = signals.both(signals.sine(RATE / 4, 1.0, 0.01, phase_degrees=45.0))
    drop(board, signals.write(tmp_path / "Night ferry.wav", signal))
    measured(board, "Night ferry")
    row(board, "Night ferry").locator("td.cell").first.click()
    expect(board.locator("[data-open-reading]")).to_be_visible()
    board.keyboard.press("Enter")
    expect(board.locator(".reading")).to_have_attribute("data-detail", "bins")
    return board


def seen(page):
    return shown(page, "first"), shown(page, "last")


def shown(page, name):
    return float(page.locator(".reading").get_attribute(f"data-{name}"))


def until(page, holds):
    """Wait for something about the cursor and the span in view, as the page itself states them."""
    end = time.monotonic() + PATIENCE_MS / 1000
    while not holds(shown(page, "cursor"), *seen(page)):
        assert time.monotonic() < end, (shown(page, "cursor"), *seen(page))
        page.wait_for_timeout(30)


def coloured(page, x, y, wide, tall):
    """How many pixels of a part of the canvas differ from its background."""
    return page.evaluate(
        """([x, y, wide, tall]) => {
          const canvas = document.querySelector("canvas"), ratio = devicePixelRatio;
          const area = [x, y, wide, tall].map((each) => each * ratio);
          const data = canvas.getContext("2d").getImageData(...area).data;
          let count = 0;
          for (let at = 3; at < data.length; at += 4) count += data[at] > 0;
          return count;
        }""",
        [x, y, wide, tall],
    )


def test_zooms_from_the_whole_file_to_single_samples_and_back(reading):
    assert seen(reading) == (0.0, 20.0)
    assert coloured(reading, 100, 40, 600, 140) > 2_000
    reading.mouse.move(400, 300)
    for _ in range(40):
        reading.mouse.wheel(0, -500)
        reading.wait_for_timeout(16)
    expect(reading.locator(".reading")).to_have_attribute("data-detail", "samples")
    first, last = seen(reading)
    assert last - first == pytest.approx(48 / RATE, rel=0.05)
    assert coloured(reading, 100, 40, 600, 140) > 500
    reading.keyboard.press("0")
    expect(reading.locator(".reading")).to_have_attribute("data-last", "20")


def test_keys_zoom_and_move(reading):
    for _ in range(3):
        reading.keyboard.press("+")
    expect(reading.locator(".reading")).to_have_attribute("data-last", "2.5")
    reading.keyboard.press("ArrowRight")
    expect(reading.locator(".reading")).to_have_attribute("data-first", "0.375")
    reading.keyboard.press("-")
    until(reading, lambda cursor, first, last: last > 4)


def test_a_note_leads_to_its_place_by_key_and_by_click(reading):
    reading.keyboard.press(".")
    until(reading, lambda cursor, first, last: abs(cursor - 6) < 0.02)
    first, last = seen(reading)
    assert first < 6 < last
    assert last - first < 2
    reading.click("button.note:has-text('Digital silence inside')")
    until(reading, lambda cursor, first, last: abs(cursor - HOLE_S) < 0.02)
    expect(reading.locator("button.note[aria-current=true]")).to_contain_text("Digital silence inside")
    reading.keyboard.press(",")
    until(reading, lambda cursor, first, last: cursor < 7)


def test_plays_from_the_cursor_and_the_cursor_follows(reading):
    reading.locator("canvas").click(position={"x": 460, "y": 100})
    until(reading, lambda cursor, first, last: cursor > 5)
    start = shown(reading, "cursor")
    reading.keyboard.press(" ")
    until(reading, lambda cursor, first, last: cursor > start + 0.5)
    assert shown(reading, "cursor") < start + 10
    expect(reading.locator("button.play")).to_contain_text("■")
    reading.keyboard.press(" ")
    expect(reading.locator("button.play")).to_contain_text("▶")


def test_the_spectrum_reads_out_its_band(reading):
    box = box_of(reading.locator("canvas"))
    reading.mouse.move(400, box["y"] + box["height"] - 60)
    expect(reading.locator("footer")).to_contain_text("Hz −")


def test_figures_are_copied_as_text(reading):
    reading.context.grant_permissions(["clipboard-read", "clipboard-write"])
    reading.keyboard.press("c")
    expect(reading.locator(".word")).to_contain_text("on the clipboard")
    text = reading.evaluate("navigator.clipboard.readText()")
    assert text.startswith("Night ferry\nWAV 24 bit · 48 kHz · stereo · 0:20.0")
    assert "Integrated: −" in text


def test_the_set_leads_to_the_row(board, tmp_path):
    for number in range(4):
        drop(board, signals.write(tmp_path / f"part {number}.wav", signals.noise(2, -23 + 0.1 * number, seed=number)))
    drop(board, signals.write(tmp_path / "loud.wav", np.clip(signals.noise(2, -6, seed=8), -0.9, 0.9)))
    measured(board, "loud")
    board.keyboard.press("s")
    board.wait_for_url("**/spread")
    expect(board.locator(".scatter a.apart")).to_have_count(1)
    board.select_option("select[name=y]", "plr")
    expect(board.locator(".scatter")).to_contain_text("Peak to loudness")
    board.locator(".scatter a.apart").click()
    expect(row(board, "loud")).to_have_class("mix sel")
