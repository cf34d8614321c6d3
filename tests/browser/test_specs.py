"""The Spec screen in the browser: drag, type, keep; vials and boards follow."""

from playwright.sync_api import expect

from tests import signals

from .conftest import box_of, make_job
from .test_board import drop, measured


def test_dragging_a_target_moves_it_and_what_lands(board, tmp_path):
    drop(board, signals.write(tmp_path / "mix.wav", signals.programme(6, seed=3)))
    measured(board, "mix")
    board.click("th.dest a:has-text('Podcast')")
    expect(board.locator(".levels .lands")).to_have_count(1)
    handle = box_of(board.locator(".handle"))
    landed = float(board.locator(".levels .lands").get_attribute("cy"))
    x, y = handle["x"] + handle["width"] / 2, handle["y"] + handle["height"] / 2
    board.mouse.move(x, y)
    board.mouse.down()
    board.mouse.move(x, y + 55, steps=5)
    board.mouse.up()
    expect(board.locator("[name='loudness.target']")).not_to_have_value("−16")
    target = board.locator("[name='loudness.target']").input_value()
    assert -22.5 <= float(target.replace("−", "-")) <= -19.0
    lands = "was => Number(document.querySelector('.levels .lands').getAttribute('cy')) > was + 30"
    board.wait_for_function(lands, arg=landed)


def _drag(page, grip, right):
    """Take hold of a grip and move it so many pixels to the right."""
    box = box_of(page.locator(grip))
    x, y = box["x"] + box["width"] / 2, box["y"] + box["height"] / 2
    page.mouse.move(x, y)
    page.mouse.down()
    page.mouse.move(x + right, y, steps=4)
    page.mouse.up()


def test_lengths_and_the_size_are_dragged_and_contradictions_follow(board):
    board.goto(board.url.split("/jobs/")[0] + "/specs/paid-short-spot")
    expect(board.locator(".contradiction")).to_contain_text("15 s are 2.65 MB")
    _drag(board, "[data-drag='limits.durations_s'][data-number='1']", 70)
    expect(board.locator("[name='limits.durations_s']")).to_have_value("15, 35")
    expect(board.locator("#spec-drawing")).to_contain_text("Size of 35 s")
    _drag(board, "[data-drag='limits.max_size_bytes']", 300)
    expect(board.locator(".contradiction")).to_have_count(0)
    size = float(board.locator("[name='limits.max_size_bytes']").input_value())
    assert 4.0 < size < 6.5


def test_a_copy_is_changed_kept_and_its_board_follows(board, tmp_path):
    drop(board, signals.write(tmp_path / "mix.wav", signals.programme(6, seed=3)))
    measured(board, "mix")
    job = board.url
    board.click("th.dest a:has-text('European')")
    board.click("text=Copy to change it")
    expect(board.locator(".about")).to_contain_text("version 1")
    board.fill("[name='spec.name']", "Night radio")
    board.fill("[name='loudness.target']", "−30")
    board.click("text=Keep as version 2")
    expect(board.locator(".about")).to_contain_text("version 2")
    board.goto(job)
    board.click("summary:has-text('Add destination')")
    board.click(".adder button:has-text('Night radio')")
    expect(board.locator("th.dest:has-text('Night radio')")).to_contain_text("−30 ±0.5 LUFS")


def test_a_contradiction_is_named_when_the_field_is_left_and_not_before(board):
    board.goto(board.url.split("/jobs/")[0] + "/specs/paid-short-spot")
    expect(board.locator(".contradiction")).to_contain_text("15 s are 2.65 MB")
    size = board.locator("[name='limits.max_size_bytes']")
    size.fill("3")
    board.wait_for_timeout(400)
    expect(board.locator(".contradiction")).to_have_count(1)
    size.press("Tab")
    expect(board.locator(".contradiction")).to_have_count(0)
    size.fill("1")
    size.press("Tab")
    expect(board.locator(".contradiction")).to_contain_text("1.32 MB")


def test_what_can_be_done_with_a_spec_stays_in_view_however_long_a_job_is_called(page, live):
    page.goto(live.address)
    make_job(page, "Every programme of the second half of the season, all languages")
    page.goto(f"{live.address}specs/loud-streaming")
    expect(page.locator(".acts", has_text="Copy into Every programme")).to_be_visible()
    rights = "() => [...document.querySelectorAll('.acts > *')].map((each) => each.getBoundingClientRect().right)"
    panel = box_of(page.locator(".said"))
    assert max(page.evaluate(rights)) <= panel["x"] + panel["width"]
