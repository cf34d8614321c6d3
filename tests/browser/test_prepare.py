"""Preparing in a real browser: notes mended by one key, steps added, changed, ordered, switched off, heard."""

import re
import time

import numpy as np
import pytest
from playwright.sync_api import expect

from tests import signals

from .conftest import PATIENCE_MS, box_of
from .test_board import cell, drop, measured, row

RATE = 48_000


def _ticking():
    """A tick at the head, a sound, two seconds of silence, another, dead air at the end."""
    sounds = [signals.programme(3, seed=seed) for seed in (2, 3)]
    sound = np.concatenate([signals.silence(0.3), sounds[0], signals.silence(2), sounds[1], signals.silence(3)])
    sound[40:60] = 0.5
    return sound


@pytest.fixture
def noted(board, tmp_path):
    """The board with that source, chosen."""
    drop(board, signals.write(tmp_path / "Bulletin.wav", _ticking()))
    measured(board, "Bulletin")
    row(board, "Bulletin").locator("td.cell").first.click()
    expect(board.locator(".close-up h2")).to_be_visible()
    return board


@pytest.fixture
def screen(noted):
    """The Prepare screen of it."""
    expect(noted.locator("[data-open-prepare]")).to_be_visible()
    noted.keyboard.press("p")
    noted.wait_for_url("**/prepare")
    expect(noted.locator("#steps")).to_be_visible()
    return noted


def _steps(page):
    return page.locator("section.step")


def _add(page, *kinds):
    for kind in kinds:
        count = _steps(page).count()
        page.click(f"[data-add-step={kind}]")
        expect(_steps(page)).to_have_count(count + 1)


def _order(page):
    return [
        page.evaluate("text => JSON.parse(text).do", each.get_attribute("data-stored")) for each in _steps(page).all()
    ]


def test_notes_are_mended_by_one_key_and_taken_back_by_another(noted):
    """Of the picked rows all such; the row says what was done."""
    here = row(noted, "Bulletin")
    expect(here.locator(".work")).to_have_attribute("title", re.compile("A tick in the first ten milliseconds"))
    noted.keyboard.press("n")
    expect(here.locator(".prepared")).to_have_text("mended")
    expect(here.locator(".prepared")).to_have_attribute("title", "Mend a tick in the first 10 ms. "
        "Shorten pauses of 1.2 s and more to 0.5 s, at the end.")  # fmt: skip
    expect(here.locator(".work")).not_to_have_attribute("title", re.compile("A tick in the first ten milliseconds"))
    expect(noted.locator(".close-up .why")).to_contain_text("Mended a tick at 0.001 s.")
    expect(noted.locator(".close-up .why")).to_contain_text("Took out 1 pause, 2.5 s.")
    noted.keyboard.press("z")
    expect(here.locator(".prepared")).to_have_count(0)
    expect(here.locator(".work")).to_have_attribute("title", re.compile("A tick in the first ten milliseconds"))


def test_who_leaves_while_a_change_is_taken_back_is_not_called_back(noted):
    """Z, then P before the answer came: the page that is loaded anew then would have kept the person there."""
    taken_back, prepared = [], []
    # Before anything is asked for: a request that is under way while the first route comes may stand still for good.
    noted.route("**/undo", lambda route: taken_back.append(route))
    noted.route("**/prepare", lambda route: prepared.append(route))
    noted.keyboard.press("n")
    expect(row(noted, "Bulletin").locator(".prepared")).to_have_text("mended")
    noted.keyboard.press("z")
    noted.keyboard.press("p")
    _until(noted, lambda: taken_back and prepared)
    with noted.expect_response("**/undo"):
        taken_back[0].continue_()
    noted.wait_for_timeout(200)
    prepared[0].continue_()
    noted.wait_for_url("**/prepare")


def _until(page, holds):
    end = time.monotonic() + PATIENCE_MS / 1000
    while not holds():
        assert time.monotonic() < end, "waited in vain"
        page.wait_for_timeout(20)


def test_one_note_is_mended_where_it_is_said(noted):
    noted.locator(".close-up [data-mend=tick_at_head]").click()
    expect(noted.locator(".close-up .why")).to_contain_text("Mended a tick")
    expect(noted.locator(".close-up .why")).not_to_contain_text("Took out")
    noted.locator(".close-up .why [data-prepare='']").click()
    expect(row(noted, "Bulletin").locator(".prepared")).to_have_count(0)


def test_a_recipe_is_given_to_all_that_are_picked(noted, tmp_path):
    drop(noted, signals.write(tmp_path / "Other.wav", _ticking()[RATE // 2 :]))
    measured(noted, "Other")
    noted.keyboard.press("Control+a")
    noted.locator(".picked-bar summary").click()
    noted.locator(".picked-bar").get_by_role("button", name="Voice for a machine").click()
    for title in ("Bulletin", "Other"):
        expect(row(noted, title).locator(".prepared")).to_have_text("Voice for a machine")
    noted.goto(noted.url.partition("/jobs")[0] + "/recipes/")
    expect(noted.locator("#voice-for-a-machine")).to_contain_text("2 sources prepared by it")


def test_a_step_is_added_changed_by_typing_and_by_keys_and_says_what_it_did(screen):
    _add(screen, "pauses")
    step = _steps(screen).first
    expect(step.locator(".figures b")).to_have_text("−4.6 s")
    expect(step.locator(".figures small")).to_have_text("in 2 places")
    expect(step.locator("rect.out")).to_have_count(2)
    step.locator("[data-key=where]").select_option("tail")
    expect(step.locator("rect.out")).to_have_count(1)
    kept = step.locator("[data-key=keep_s]")
    kept.fill("1")
    expect(step.locator(".figures b")).to_have_text("−2.0 s")
    kept.press("ArrowUp")
    expect(kept).to_have_value("1.05")
    expect(step.locator(".figures b")).to_have_text("−1.9 s")
    expect(screen.locator("#steps")).to_have_attribute("data-pending", "")
    expect(screen.locator("section.prepared")).to_contain_text("LUFS")


def test_what_is_wrong_is_said_and_nothing_is_lost(screen):
    _add(screen, "gate")
    field = _steps(screen).first.locator("[data-key=below_db]")
    field.fill("loud")
    expect(screen.locator("[role=status].word")).to_have_text("“loud” is no number: below db stays as it was.")
    expect(field).to_have_attribute("aria-invalid", "")
    screen.reload()
    expect(_steps(screen).first.locator("[data-key=below_db]")).to_have_value("−50")


def test_a_level_and_a_time_are_dragged_on_the_strip(screen):
    """Drawn while it is dragged, kept once when it is let go: one change, which one undo takes back."""
    _add(screen, "pauses", "fade")
    pauses, fade = _steps(screen).nth(0), _steps(screen).nth(1)
    expect(pauses.locator(".figures b")).to_contain_text("s")
    _drag(screen, pauses.locator("[data-drag=below_db] .grip"), 0, 8, lambda: (
        expect(pauses.locator("[data-key=below_db]")).not_to_have_value("−50"),
        expect(pauses.locator("[data-drag] text")).not_to_have_text("−50.0 dB"),
    ))  # fmt: skip
    expect(pauses).not_to_have_attribute("data-stored", re.compile('"below_db": -50'))
    _drag(screen, fade.locator("[data-drag=in_s] .grip"), 100, 0, lambda: None)
    expect(fade).not_to_have_attribute("data-stored", re.compile('"in_s": 0.05'))
    in_s = float(fade.locator("[data-key=in_s]").input_value())
    assert 0.5 < in_s < 3
    screen.keyboard.press("z")
    expect(fade).to_have_attribute("data-stored", re.compile('"in_s": 0.05'))
    expect(pauses).not_to_have_attribute("data-stored", re.compile('"below_db": -50'))


def _drag(page, line, right, down, midway):
    expect(page.locator("#steps")).to_have_attribute("data-pending", "")  # else it is drawn anew by itself
    box = box_of(line)
    x, y = box["x"] + box["width"] / 2, box["y"] + box["height"] / 2
    page.mouse.move(x, y)
    page.mouse.down()
    page.mouse.move(x + right, y + down, steps=6)
    midway()
    page.mouse.up()


def test_order_off_and_out_by_keys_and_taken_back(screen):
    _add(screen, "silence", "tick", "gate")
    expect(_steps(screen).nth(1)).to_contain_text("mend it first")
    _steps(screen).nth(1).focus()
    screen.keyboard.press("Alt+ArrowUp")
    expect(_steps(screen).first).to_contain_text("Mend a tick")
    assert _order(screen) == ["tick", "silence", "gate"]
    expect(screen.locator("section.prepared")).to_contain_text("no step harms another")
    expect(_steps(screen).first).to_be_focused()
    screen.keyboard.press("ArrowDown")
    screen.keyboard.press("0")
    expect(_steps(screen).nth(1)).to_have_class("step off")
    expect(_steps(screen).nth(1).locator(".figures b")).to_have_text("off")
    screen.keyboard.press("0")
    expect(_steps(screen).nth(1).locator(".figures b")).to_have_text("+0.5 s")
    screen.keyboard.press("Delete")
    expect(_steps(screen)).to_have_count(2)
    screen.keyboard.press("z")
    expect(_steps(screen)).to_have_count(3)
    assert _order(screen) == ["tick", "silence", "gate"]
    screen.keyboard.press("Escape")
    screen.wait_for_url("**/jobs/*")


def test_a_step_that_is_moved_while_another_is_being_added_keeps_the_focus(screen):
    """What was added is drawn, but its answer comes only when the person is at another step and has moved that."""
    _add(screen, "silence", "tick")
    added, saved, drawn = [], [], []
    screen.route("**/add*", lambda route: added.append((route, route.fetch())))
    screen.click("[data-add-step=gate]")
    expect(_steps(screen)).to_have_count(3)
    screen.route("**/rows*", lambda route: drawn.append(route) if not drawn else route.continue_())
    screen.route(re.compile(r"/prepare(\?.*)?$"), lambda route: saved.append((route, route.fetch())))
    _answer(*added.pop())
    _until(screen, lambda: drawn)  # by the answer to what was added
    _steps(screen).nth(1).focus()
    screen.keyboard.press("Alt+ArrowUp")
    drawn[0].continue_()
    expect(_steps(screen).first).to_contain_text("Mend a tick")
    _answer(*saved.pop())
    expect(_steps(screen).first).to_be_focused()
    assert _order(screen) == ["tick", "silence", "gate"]


def test_a_change_made_while_a_step_is_being_added_does_not_lose_that(screen):
    """The server has not been told yet what is added when the person goes on."""
    _add(screen, "silence", "tick")
    added = []
    screen.route("**/add*", lambda route: added.append(route))
    screen.click("[data-add-step=gate]")
    _until(screen, lambda: added)
    _steps(screen).first.focus()
    screen.keyboard.press("0")
    screen.wait_for_timeout(100)
    added[0].continue_()
    expect(_steps(screen).first).to_have_attribute("data-off", "")
    expect(_steps(screen)).to_have_count(3)
    assert _order(screen) == ["silence", "tick", "gate"]


def test_keys_that_are_pressed_faster_than_the_server_answers_all_count(screen):
    """Up twice is two places up, and what is taken out twice is two steps."""
    _add(screen, "silence", "tick", "gate", "gain")
    screen.route("**/rows*", lambda route: (screen.wait_for_timeout(150), route.continue_()))
    _steps(screen).nth(2).focus()
    screen.keyboard.press("Alt+ArrowUp")
    screen.keyboard.press("Alt+ArrowUp")
    expect(_steps(screen).first).to_contain_text("Turn down")
    expect(_steps(screen).first).to_be_focused()
    assert _order(screen) == ["gate", "silence", "tick", "gain"]
    screen.keyboard.press("0")
    screen.keyboard.press("0")
    screen.keyboard.press("ArrowDown")  # somewhere else meanwhile: what was pressed before is meant of where it was
    screen.wait_for_timeout(600)
    expect(_steps(screen).first).not_to_have_attribute("data-off", "")
    expect(_steps(screen).nth(1)).to_be_focused()
    expect(_steps(screen).nth(1)).not_to_have_attribute("data-off", "")
    _steps(screen).nth(3).focus()
    screen.keyboard.press("Delete")
    screen.keyboard.press("Delete")
    expect(_steps(screen)).to_have_count(2)
    assert _order(screen) == ["gate", "silence"]
    screen.unroute_all(behavior="wait")


def test_what_is_taken_back_is_what_was_pressed_last_however_fast(screen):
    """One step is put off, the next taken out, and that taken back, before the server has heard of the first."""
    _add(screen, "silence", "tick", "gate")
    saved = []
    screen.route("**/prepare", lambda route: saved.append(route) if not saved else route.continue_())
    _steps(screen).nth(1).focus()
    screen.keyboard.press("0")
    screen.keyboard.press("ArrowDown")
    screen.keyboard.press("Delete")
    screen.keyboard.press("z")
    _until(screen, lambda: saved)
    screen.wait_for_timeout(100)
    saved[0].continue_()
    expect(screen.locator(".word")).to_contain_text("Taken back:")
    screen.wait_for_timeout(500)
    expect(_steps(screen).nth(1)).to_have_attribute("data-off", "")
    assert _order(screen) == ["silence", "tick", "gate"]


def test_a_step_that_is_moved_from_within_its_figure_takes_what_was_typed_along(screen):
    _add(screen, "silence", "tick", "gain")
    figure = _steps(screen).nth(2).locator("[data-key=db]")
    figure.fill("-4.5")
    screen.keyboard.press("Alt+ArrowUp")
    screen.keyboard.press("Alt+ArrowUp")
    expect(_steps(screen).first.locator("[data-key=db]")).to_have_value("−4.5")
    expect(_steps(screen).first).to_be_focused()
    assert _order(screen) == ["gain", "silence", "tick"]
    screen.reload()
    expect(_steps(screen).first.locator("[data-key=db]")).to_have_value("−4.5")
    assert _order(screen) == ["gain", "silence", "tick"]


def test_who_leaves_at_once_leaves_nothing_behind(screen):
    """A figure is typed, a key pressed, and Esc before any of it was sent."""
    _add(screen, "gain", "gate")
    here = screen.url
    screen.route("**/rows*", lambda route: (screen.wait_for_timeout(200), route.continue_()))
    _steps(screen).first.locator("[data-key=db]").fill("-4.5")
    screen.keyboard.press("Escape")  # out of the figure
    screen.keyboard.press("Alt+ArrowDown")
    screen.keyboard.press("0")
    screen.keyboard.press("Escape")
    screen.wait_for_url("**/jobs/*")
    screen.unroute_all(behavior="wait")
    screen.goto(here)
    expect(_steps(screen).nth(1).locator("[data-key=db]")).to_have_value("−4.5")
    expect(_steps(screen).nth(1)).to_have_attribute("data-off", "")
    assert _order(screen) == ["gate", "gain"]


def _answer(route, answer):
    route.fulfill(response=answer)


def test_it_is_heard_after_any_step_on_one_time(screen):
    """Of the length of what is prepared, whatever is heard; after the third step by the key of its row."""
    _add(screen, "tick", "pauses", "gate", "fade")
    expect(screen.locator("[data-take]")).to_have_count(5)
    lengths = {button.get_attribute("data-seconds") for button in screen.locator("[data-take]").all()}
    assert len(lengths) == 1
    _steps(screen).nth(2).focus()
    screen.keyboard.press("h")
    hear = screen.locator("[data-hear-root]")
    expect(hear).to_have_attribute("data-state", "playing")
    expect(screen.locator("[data-take][aria-pressed=true]")).to_contain_text("After 3")
    screen.keyboard.press("1")
    expect(screen.locator("[data-take][aria-pressed=true]")).to_contain_text("As it came")
    screen.keyboard.press(" ")
    expect(hear).to_have_attribute("data-state", "still")
    with screen.expect_request(re.compile(r"/hear/step-\d+-3/less/step-\d+-2/")) as asked:
        screen.keyboard.press("d")  # what the third step alone did, at one gain for both
    gains = re.search(r"gain=([-.\d]+)&less=([-.\d]+)", asked.value.url).groups()
    assert gains[0] == gains[1]
    expect(hear).to_have_attribute("data-less", "on")
    screen.keyboard.press("d")
    expect(hear).to_have_attribute("data-less", "")
    screen.keyboard.press("Space")


def test_who_goes_on_while_a_step_is_being_added_is_not_called_back(screen):
    """The row is there before the answer is: a focus set then would have been taken from the next key."""
    answers = []
    screen.route("**/add*", lambda route: answers.append((route, route.fetch())))
    screen.click("[data-add-step=tick]")
    expect(_steps(screen)).to_have_count(1)
    route, answer = answers.pop()
    route.fulfill(response=answer)
    expect(_steps(screen).first).to_be_focused()  # whoever waits is taken to what was added
    screen.click("[data-add-step=pauses]")
    expect(_steps(screen)).to_have_count(2)
    _steps(screen).first.focus()
    route, answer = answers.pop()
    with screen.expect_response("**/rows*"):
        route.fulfill(response=answer)
    screen.wait_for_timeout(200)
    expect(_steps(screen).first).to_be_focused()
    screen.keyboard.press("0")
    expect(_steps(screen).first).to_have_attribute("data-off", "")


def test_a_recipe_is_taken_and_let_go_of(screen):
    screen.click("text=Take a recipe")
    screen.click("[data-give=clean-head][type=button]")
    expect(_steps(screen)).to_have_count(2)
    expect(screen.locator("#called")).to_have_text("Clean head")
    _add(screen, "gain")
    expect(screen.locator("#called")).to_have_text("Clean head, changed here")
    screen.click("text=Take a recipe")
    screen.click("text=None: as it came")
    expect(_steps(screen)).to_have_count(0)


def test_a_prepared_source_is_rendered_as_it_is_drawn(screen, live):
    _add(screen, "trim", "gain")
    _steps(screen).nth(1).locator("[data-key=db]").fill("6")
    expect(screen.locator("section.prepared")).to_contain_text("LUFS")
    length = screen.locator("section.prepared .figures b").inner_text()
    screen.keyboard.press("Escape")  # out of the figure
    screen.keyboard.press("Escape")
    screen.wait_for_url("**/jobs/*")
    chosen = cell(screen, "Bulletin", "full resolution")
    chosen.click()
    screen.keyboard.press("r")
    expect(chosen).to_have_attribute("data-state", "proved")
    expect(row(screen, "Bulletin").locator(".format")).to_contain_text(length[:4])
