"""Lines and what comes through them, in a real browser by keyboard: drawn, seen live, held, published, put back."""

import re

import pytest
from playwright.sync_api import expect

from tests import signals

LIMIT_MS = 60_000


@pytest.fixture
def air(page, live, tmp_path):
    """The Arrivals screen after a line was drawn there; its folders."""
    folders = {name: tmp_path / name for name in ("in", "air")}
    folders["in"].mkdir()
    page.goto(live.address + "arrivals/")
    page.keyboard.press("n")
    page.wait_for_url("**/arrivals/lines/new")
    page.fill("[name=name]", f"Tide {tmp_path.name}")
    page.fill("[name=folder]", str(folders["in"]))
    page.fill("[name=settle_s]", "0.3")
    page.select_option("[name=recipe]", label="Clean head")
    page.select_option("[name=spec]", label="European broadcast")
    page.fill("[name=shortest_s]", "2")
    page.fill("[name=publish]", str(folders["air"]))
    page.fill("[name=under]", "bulletin")
    page.keyboard.press("Control+Enter")
    page.wait_for_url("**/arrivals/")
    expect(page.locator(".line-name", has_text=f"Tide {tmp_path.name}")).to_be_visible()
    return page, folders


def _bubbles(page, tmp_path):
    line = page.locator("g.line", has=page.locator(".line-name", has_text=f"Tide {tmp_path.name}"))
    return line.locator("[data-arrival]")


def test_an_arrival_is_seen_live_held_published_all_the_same_and_the_one_before_put_back(air, tmp_path):
    page, folders = air
    signals.write(folders["in"] / "one.wav", signals.noise(3, -33, seed=1))
    bubbles = _bubbles(page, tmp_path)
    expect(bubbles).to_have_count(1, timeout=LIMIT_MS)
    expect(bubbles).to_have_class(re.compile("ok"), timeout=LIMIT_MS)
    on_air = (folders["air"] / "bulletin.wav").read_bytes()
    signals.write(folders["in"] / "two.wav", signals.noise(1, -33, seed=2))
    expect(bubbles).to_have_count(2, timeout=LIMIT_MS)
    expect(bubbles.last).to_have_class(re.compile("held"), timeout=LIMIT_MS)
    assert (folders["air"] / "bulletin.wav").read_bytes() == on_air
    bubbles.last.click()  # both lie at the same minute: the arrows tell them apart
    page.keyboard.press("ArrowLeft")
    expect(page.locator("#arrivals-low h2")).to_contain_text("one.wav, published on air")
    page.keyboard.press("ArrowRight")
    expect(page.locator("#arrivals-low h2")).to_have_text("two.wav, held back")
    expect(page.locator("#arrivals-low")).to_contain_text("the shortest allowed is 0:02.0. Held back.")
    expect(page.locator("#arrivals-low")).to_contain_text("stays on air, nothing was written over it")
    page.keyboard.press("p")
    expect(page.locator("#arrivals-low h2")).to_contain_text("two.wav, published", timeout=LIMIT_MS)
    assert (folders["air"] / "bulletin.wav").read_bytes() != on_air
    page.reload()
    expect(page.locator("#arrivals-low h2")).to_contain_text("two.wav, published")  # the address says which
    page.keyboard.press("u")
    expect(page.locator("[role=status]")).to_contain_text("The one before is on air again.")
    assert (folders["air"] / "bulletin.wav").read_bytes() == on_air
    page.keyboard.press("ArrowLeft")
    expect(page.locator("#arrivals-low h2")).to_contain_text("one.wav, published on air")


def test_what_went_out_is_heard_and_as_it_came(air, tmp_path):
    page, folders = air
    signals.write(folders["in"] / "one.wav", signals.noise(3, -33, seed=1))
    bubbles = _bubbles(page, tmp_path)
    expect(bubbles).to_have_class(re.compile("ok"), timeout=LIMIT_MS)
    bubbles.first.click()
    out, came = (page.locator(f"[data-take=arrival-{role}]") for role in ("out", "came"))
    expect(out).to_have_attribute("aria-pressed", "true")
    page.keyboard.press(" ")
    expect(page.locator("[data-hear-root]")).to_have_attribute("data-state", "playing")
    page.keyboard.press("b")
    expect(came).to_have_attribute("aria-pressed", "true")
    page.keyboard.press(" ")
    expect(page.locator("[data-hear-root]")).to_have_attribute("data-state", "still")


def test_a_line_is_changed_by_keyboard_taken_away_and_brought_back(air, tmp_path):
    page, folders = air
    signals.write(folders["in"] / "one.wav", signals.noise(3, -33, seed=1))
    bubbles = _bubbles(page, tmp_path)
    expect(bubbles).to_have_class(re.compile("ok"), timeout=LIMIT_MS)
    bubbles.first.click()
    page.keyboard.press("Enter")
    page.wait_for_url(re.compile(r"/arrivals/lines/\d+$"))
    page.select_option("[name=usual]", label="by words of cron:")
    page.fill("[name=expected]", "5 * * * *")
    page.keyboard.press("Control+Enter")
    page.wait_for_url("**/arrivals/")
    line = page.locator("g.line", has=page.locator(".line-name", has_text=f"Tide {tmp_path.name}"))
    expect(line).to_contain_text("at :05 → bulletin")
    page.click(f"text=Tide {tmp_path.name}")
    page.wait_for_url(re.compile(r"/arrivals/lines/\d+$"))
    with page.expect_download() as coming:
        page.click("text=Export as TOML")
    assert 'expected = "5 * * * *"' in coming.value.path().read_text()
    page.click("text=Take it away")
    page.wait_for_url("**/arrivals/")
    expect(line).to_have_count(0)
    page.keyboard.press("z")
    expect(line).to_have_count(1)


def test_the_alarm_is_here_too_where_somebody_asks_for_it(air, tmp_path):
    page, folders = air
    page.keyboard.press("a")
    expect(page.get_by_role("button", name="Alarm is here too")).to_have_attribute("aria-pressed", "true")
    (folders["in"] / "text.wav").write_text("no audio, but longer than nothing at all would be")
    expect(_bubbles(page, tmp_path)).to_have_class(re.compile("held"), timeout=LIMIT_MS)
    expect(page.locator("[role=status]")).to_contain_text("text.wav: held back", timeout=LIMIT_MS)
    page.keyboard.press("a")


def test_what_is_held_is_told_to_the_desk_that_ships(air, tmp_path):
    page, folders = air
    (folders["in"] / "text.wav").write_text("no audio, but longer than nothing at all would be")
    bubble = _bubbles(page, tmp_path)
    expect(bubble).to_have_class(re.compile("held"), timeout=LIMIT_MS)
    bubble.click()
    expect(page.locator("#arrivals-low")).to_contain_text("alarm sent to the hook, answered 200", timeout=LIMIT_MS)
