"""Hearing in a real browser: matched, aligned to the sample, without a gap or a step; everything by key."""

import base64
import re

import numpy as np
import pytest
from playwright.sync_api import expect

from tests import signals
from tests.core.measuring import meter_signal

from .conftest import box_of
from .test_board import cell, drop, measured

RATE = 48_000

OFFLINE = """
async ({ switches, seconds }) => {
  const { Player, Take } = await import(new URL("hear/player.js", document.querySelector("link[rel=icon]").href));
  const root = document.querySelector("[data-hear-root]"), rateHz = Number(root.dataset.rate);
  const context = new OfflineAudioContext(2, seconds * rateHz, rateHz);
  const takes = ["source", "plan", "made"].map((kind) => {
    const { address, stamp, seconds: long, gain } = root.querySelector(`[data-kind=${kind}]`).dataset;
    const gains = { matched: 10 ** (gain / 20) };
    return new Take({ key: kind, address, query: `?s=${stamp}`, frames: Number(long) * rateHz, gains });
  });
  const player = new Player({ rateHz, takes, context });
  for (const take of takes) for (let number = 0; number < seconds; number++) await player.pieces.want(take, number);
  player.key = switches[0][1];
  player.begin(0);
  while (player.place(player.voice));
  for (const [atS, key] of switches.slice(1)) {
    player.cross(player.takes.get(key), player.onGrid(atS));
    while (player.place(player.voice));
  }
  const rendered = await context.startRendering();
  const text = (side) => {
    let found = "";
    for (const byte of new Uint8Array(rendered.getChannelData(side).buffer)) found += String.fromCharCode(byte);
    return btoa(found);
  };
  const sides = [text(0), text(1)];
  return { sides, gains: Object.fromEntries(takes.map((take) => [take.key, take.gain("matched")])) };
}
"""


def limited():
    """What is limited to be loud: hits over a bed of noise."""
    return 0.7 * signals.drums(12) + 0.25 * signals.noise(12, -14, seed=1)


@pytest.fixture
def rendered(board, tmp_path):
    """The board with a mix whose loud deliverable is proved, its cell chosen."""
    drop(board, signals.write(tmp_path / "Night ferry.wav", limited()))
    measured(board, "Night ferry")
    loud = cell(board, "Night ferry", "Streaming")
    loud.click()
    expect(board.locator(".close-up h2")).to_contain_text("of limiting")
    board.keyboard.press("r")
    expect(loud).to_have_attribute("data-state", "proved")
    expect(board.locator("[data-take][data-kind=made]")).to_have_count(1)
    return board


def _offline(page, switches, seconds):
    found = page.evaluate(OFFLINE, {"switches": switches, "seconds": seconds})
    sides = [np.frombuffer(base64.b64decode(each), "<f4") for each in found["sides"]]
    return np.stack(sides, axis=1).astype(np.float64), found["gains"]


def _pieces(page, kind, seconds):
    """What the server gives of a take, second after second."""
    dataset = page.locator(f"[data-take][data-kind={kind}]").first.evaluate("(button) => ({...button.dataset})")
    parts = []
    for number in range(seconds):
        answer = page.request.get(f"{page.url.split('/jobs')[0]}{dataset['address']}/{number}")
        parts.append(np.frombuffer(answer.body(), "<f4").reshape(-1, 2))
    return np.concatenate(parts).astype(np.float64)


def test_a_switch_is_matched_aligned_to_the_sample_and_has_no_step(rendered):
    """What comes out is each take at its gain, with one crossfade of 5 ms between, and nothing else."""
    switches = [[0, "source"], [4.0, "made"], [8.0, "source"]]
    heard, gains = _offline(rendered, switches, 12)
    source, made = (_pieces(rendered, kind, 12) for kind in ("source", "made"))
    source, made = source * gains["source"], made * gains["made"]
    fade = round(0.005 * RATE)
    ramp = np.clip((np.arange(12 * RATE) - 4 * RATE) / fade, 0, 1) - np.clip(
        (np.arange(12 * RATE) - 8 * RATE) / fade, 0, 1
    )
    expected = source * (1 - ramp[:, None]) + made * ramp[:, None]
    begun = slice(fade, 12 * RATE - fade)
    assert np.abs(heard - expected)[begun].max() < 2e-6, "aligned to the sample"
    loudness = [
        meter_signal(heard[start * RATE : end * RATE]).integrated_lufs for start, end in ((1, 4), (5, 8), (9, 12))
    ]
    apart = [meter_signal(each[5 * RATE : 8 * RATE]).integrated_lufs for each in (source, made)]
    whole = [meter_signal(each).integrated_lufs for each in (source, made)]
    assert whole[0] == pytest.approx(whole[1], abs=0.1), "matched"
    assert loudness[1] == pytest.approx(apart[1], abs=0.01)
    steps = np.abs(np.diff(heard, axis=0))
    own = max(np.abs(np.diff(each, axis=0)).max() for each in (source, made))
    for at_s in (4.0, 8.0):
        around = slice(round(at_s * RATE) - 10, round(at_s * RATE) + fade + 10)
        assert steps[around].max() <= own + 1e-6, "no step larger than the signal's own"


def test_pieces_meet_without_a_gap(rendered):
    """One take alone is the file itself, sample for sample, over every border of two pieces."""
    heard, gains = _offline(rendered, [[0, "plan"]], 6)
    plan = _pieces(rendered, "plan", 6) * gains["plan"]
    assert np.abs(heard - plan)[240:].max() < 1e-6


def test_the_output_never_passes_the_sources_own_peak(rendered):
    heard, _ = _offline(rendered, [[0, "made"], [3.0, "plan"], [6.0, "source"]], 12)
    assert np.abs(heard).max() <= np.abs(limited()).max() + 1e-6


def playing(page):
    expect(page.locator("[data-hear-root]")).to_have_attribute("data-state", "playing")


def clock(page):
    minutes, seconds = page.locator("[data-clock]").inner_text().split(":")
    return 60 * int(minutes) + float(seconds)


def pressed(page, kind):
    expect(page.locator(f"[data-take][data-kind={kind}]").first).to_have_attribute("aria-pressed", "true")


def test_the_board_is_heard_by_key(rendered):
    rendered.keyboard.press(" ")
    playing(rendered)
    expect(rendered.locator("[data-clock]")).not_to_have_text("0:00.0")
    rendered.keyboard.press("b")
    pressed(rendered, "made")
    rendered.keyboard.press("2")
    pressed(rendered, "plan")
    rendered.keyboard.press("b")
    pressed(rendered, "source")
    rendered.keyboard.press("b")
    pressed(rendered, "plan")
    expect(rendered.locator("[data-kind=plan] [data-gains]").first).to_contain_text("−")
    rendered.keyboard.press("g")
    expect(rendered.locator("[data-heard-as]")).to_have_text("real levels")
    rendered.keyboard.press("e")
    expect(rendered.locator("[data-hear=less]")).to_have_attribute("aria-pressed", "true")
    playing(rendered)
    rendered.keyboard.press("e")
    rendered.keyboard.press(".")
    expect(rendered.locator(".word")).to_contain_text(":")
    playing(rendered)
    rendered.keyboard.press(" ")
    expect(rendered.locator("[data-hear-root]")).to_have_attribute("data-state", "still")
    stood = clock(rendered)
    rendered.wait_for_timeout(300)
    assert clock(rendered) == stood


def test_a_key_is_meant_for_what_is_chosen_also_before_its_close_up_is_there(rendered, tmp_path):
    drop(rendered, signals.write(tmp_path / "Second part.wav", 0.5 * signals.programme(5, seed=4)))
    measured(rendered, "Second part")
    held, released = [], []
    rendered.route("**/close-up/**", lambda route: route.continue_() if released else held.append(route))
    cell(rendered, "Second part", "Streaming").click()
    rendered.keyboard.press(" ")
    rendered.keyboard.press("b")
    rendered.wait_for_timeout(300)
    expect(rendered.locator("[data-hear-root]")).to_have_attribute("data-state", "still")  # it is the other one's
    released.append(True)
    for route in held:
        route.continue_()
    playing(rendered)
    expect(rendered.locator(".close-head b")).to_have_text("Second part")
    pressed(rendered, "plan")


def test_the_transport_goes_on_when_the_close_up_is_drawn_anew(rendered):
    """Another width of the window draws the close-up again, around what is heard."""
    rendered.keyboard.press(" ")
    playing(rendered)
    rendered.set_viewport_size({"width": 1400, "height": 800})
    rendered.wait_for_timeout(600)
    playing(rendered)
    rendered.locator("[data-take][data-kind=made]").first.click()
    pressed(rendered, "made")
    rendered.locator("[data-hear=play]").click()
    expect(rendered.locator("[data-hear-root]")).to_have_attribute("data-state", "still")


def test_a_press_on_the_drawing_is_heard_from_there(rendered):
    box = box_of(rendered.locator("[data-over-time]"))
    rendered.mouse.click(box["x"] + box["width"] / 2, box["y"] + 60)
    assert clock(rendered) == pytest.approx(6.0, abs=0.5)
    rendered.keyboard.press(" ")
    playing(rendered)
    assert clock(rendered) >= 5.5


def test_a_slow_disk_gives_silence_and_goes_on(rendered):
    """A second that is late is waited for: the clock stands still meanwhile, and then it goes on from there."""
    held = []
    rendered.route("**/hear/source-*/48000/2?*", lambda route: held.append(route))
    rendered.keyboard.press(" ")
    playing(rendered)
    expect(rendered.locator("[data-hear-root]")).to_have_attribute("data-state", "coming")
    assert clock(rendered) == pytest.approx(2.0, abs=0.05)
    held[0].continue_()
    playing(rendered)


def test_what_cannot_be_played_is_said(rendered):
    """The server gone: a sentence, and it stands still. On a page of its own, for the browser logs that."""
    page = rendered.context.new_page()
    page.goto(rendered.url)
    expect(page.locator("[data-hear-root]")).to_be_visible()
    page.route("**/hear/**", lambda route: route.abort())
    page.keyboard.press(" ")
    expect(page.locator(".word")).to_have_text("Nice Level does not answer. Is it still running?")
    expect(page.locator("[data-hear-root]")).to_have_attribute("data-state", "still")


def test_before_and_after_and_a_blind_comparison_by_key(rendered):
    rendered.keyboard.press("c")
    rendered.wait_for_url("**/compare/**")
    page = rendered
    expect(page.locator(".compare")).to_have_attribute("data-drawn", "yes")
    page.keyboard.press("+")
    page.keyboard.press("+")
    expect(page.locator(".span")).not_to_have_text("0:00.0 – 0:12.0")
    page.keyboard.press("q")
    expect(page.locator(".blind")).to_contain_text("Trial 1")
    for trial in range(10):
        expect(page.locator(".blind")).to_contain_text(f"Trial {trial + 1}.")
        if trial < 2:
            page.keyboard.press("x")
            playing(page)
            page.keyboard.press("a")
            pressed(page, "source")
        page.keyboard.press("Shift+A")
    expect(page.locator(".blind .verdict")).to_contain_text("of 10 right")
    page.keyboard.press("n")
    expect(page.locator("[data-clock]")).to_contain_text(re.compile("0:0[4-9]"))
    playing(page)
    page.keyboard.press("f")
    page.keyboard.press("u")
    expect(page.locator("[data-lift='12']")).to_have_attribute("aria-pressed", "true")
    page.keyboard.press("Escape")
    page.wait_for_url("**/jobs/**")


def test_joins_are_heard_by_key(rendered, tmp_path):
    drop(rendered, signals.write(tmp_path / "Second part.wav", 0.5 * signals.programme(5, seed=4)))
    measured(rendered, "Second part")
    rendered.keyboard.press("b")
    pressed(rendered, "made")
    cell(rendered, "Second part", "Streaming").click()
    expect(rendered.locator(".close-head b")).to_have_text("Second part")
    rendered.keyboard.press("b")
    pressed(rendered, "plan")  # its own, not what was heard of the other
    cell(rendered, "Night ferry", "Streaming").click()
    expect(rendered.locator(".close-head b")).to_have_text("Night ferry")
    rendered.keyboard.press("j")
    expect(rendered.locator(".word")).to_contain_text("Night ferry into Second part")
    rendered.keyboard.press("j")
    expect(rendered.locator(".word")).to_contain_text("Night ferry into Second part")


def test_files_of_the_handover_are_heard(rendered):
    rendered.keyboard.press("h")
    rendered.wait_for_url("**/handover")
    expect(rendered.locator("tr.sel")).to_have_count(1)
    rows = rendered.locator("tr[data-hear-at]")
    made = [bool(each.get_attribute("data-take")) for each in rows.all()]
    assert set(made) == {True, False}  # what is not made yet is heard as its source
    for at, is_made in enumerate(made):
        expect(rows.nth(at)).to_have_class("sel")
        rendered.keyboard.press(" ")
        playing(rendered)
        pressed(rendered, "made" if is_made else "source")
        rendered.keyboard.press(" ")
        expect(rendered.locator("[data-hear-root]")).to_have_attribute("data-state", "still")
        rendered.keyboard.press("ArrowDown")
