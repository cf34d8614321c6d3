"""Pages for everybody: nothing serious found by axe-core on any of them, and the board worked by keyboard alone."""

from pathlib import Path

import pytest
from playwright.sync_api import expect

from tests import signals

from .test_board import cell, drop, measured, row

OVERLAPS = (Path(__file__).parent / "overlaps.js").read_text()
BUSY = """
() => (document.getElementById("running") ?? {}).innerHTML =
  '<a class="pill fig" href="/runs/">12,345 to render<span> · 12:34:56 left</span></a>'
"""
AXE = (Path(__file__).parent / "vendor" / "axe" / "axe.min.js").read_text()


@pytest.fixture
def worked_on(board, tmp_path):
    """A board with a proved file, one that cannot meet, a version that was set aside and a set."""
    stems = [0.2 * signals.programme(4, seed=seed) for seed in (7, 8)]
    sources = {
        "Night ferry v1": signals.noise(3, -30),
        "Night ferry v2": signals.noise(3, -20),
        "song": sum(stems),
        "song_a": stems[0],
        "song_b": stems[1],
    }
    for name, signal in sources.items():
        drop(board, signals.write(tmp_path / f"{name}.wav", signal))
        measured(board, name)
    expect(board.locator("tr.linked")).to_have_count(2)
    cell(board, "Night ferry v2", "European").click()
    board.keyboard.press("r")
    expect(cell(board, "Night ferry v2", "European")).to_have_attribute("data-state", "proved")
    return board


def _found(page):
    """What axe-core finds serious or critical, with the first place of each."""
    page.evaluate(AXE)
    result = page.evaluate("axe.run(document, { resultTypes: ['violations'] })")
    return [
        (each["id"], each["nodes"][0]["html"][:150], each["nodes"][0]["failureSummary"])
        for each in result["violations"]
        if each["impact"] in ("serious", "critical")
    ]


def _pages(page, live):
    """Every page that shows work, and what is there when it is: by name."""
    board = page.url.partition("#")[0]
    job = board.rpartition("/")[2]
    source = row(page, "Night ferry v2").get_attribute("data-source")
    older = row(page, "Night ferry v1").get_attribute("data-source")
    place = cell(page, "Night ferry v2", "European").get_attribute("data-destination")
    compared = f"{live.address}/sources/{source}/compare/{place}"
    return {
        "jobs": (f"{live.address}/", "table.jobs"),
        "board": (board, ".price svg"),
        "spread": (f"{live.address}/jobs/{job}/spread", ".scatter"),
        "handover": (f"{live.address}/jobs/{job}/handover", "main"),
        "arrivals": (f"{live.address}/arrivals/", "#arrivals-day"),
        "line": (f"{live.address}/arrivals/lines/new", ".sentences"),
        "reading": (f"{live.address}/sources/{source}/reading", ".reading[data-detail]"),
        "prepare": (f"{live.address}/sources/{source}/prepare", "#steps"),
        "channels": (f"{live.address}/sources/{source}/channels", "#channels .crossing"),
        "recipes": (f"{live.address}/recipes/", ".recipes article"),
        "before and after": (compared, "canvas"),
        "versions": (f"{compared}?against=source-{older}", "#changed:not([data-pending])"),
        "spec": (f"{live.address}/specs/podcast", "main.spec"),
        "runs": (f"{live.address}/runs", "main"),
    }


def test_no_page_has_a_serious_fault_in_either_light(worked_on, live):
    page, pages = worked_on, _pages(worked_on, live)
    for theme in ("light", "dark"):
        page.evaluate("theme => localStorage.setItem('theme', theme)", theme)
        for name, (address, shown) in pages.items():
            page.goto(address)
            page.wait_for_selector(shown)
            page.wait_for_timeout(300)
            assert _found(page) == [], f"{name}, {theme}"


@pytest.mark.parametrize(("width", "height"), [(853, 533), (1024, 640), (2560, 1440)])
def test_everything_fits_at_every_size_and_no_words_lie_under_others(worked_on, live, width, height):
    """From 1024 to 2560 pixels; the smallest is 1280×800 at 150 %."""
    page, pages = worked_on, _pages(worked_on, live)
    page.set_viewport_size({"width": width, "height": height})
    for name, (address, shown) in pages.items():
        page.goto(address)
        page.wait_for_selector(shown)
        page.wait_for_timeout(300)
        assert page.evaluate(OVERLAPS) == [], name
        page.evaluate(BUSY)
        assert page.evaluate(OVERLAPS) == [], f"{name}, while much is under way"
        assert page.locator("header.top").bounding_box()["height"] < 60, name


def test_enter_and_space_press_what_has_the_focus(worked_on):
    page = worked_on
    chosen = page.locator("td.cell.cur").get_attribute("id")
    page.locator("summary", has_text="Add destination").focus()
    page.keyboard.press("Enter")
    expect(page.locator("details.adder[open]")).to_have_count(1)
    page.keyboard.press("r")
    expect(page.locator("#running")).to_have_text("")
    page.keyboard.press("Escape")
    expect(page.locator("details.adder[open]")).to_have_count(0)
    expect(page.locator("summary", has_text="Add destination")).to_be_focused()
    page.locator("[data-sort=title]").focus()
    page.keyboard.press(" ")
    expect(page.locator("th[aria-sort=ascending]")).to_have_count(1)
    assert page.locator("td.cell.cur").get_attribute("id") == chosen
    page.locator(".close-up a", has_text="Before and after").focus()
    page.keyboard.press("Enter")
    page.wait_for_selector("canvas")
    assert "/compare/" in page.url


def test_who_has_the_focus_keeps_it_where_a_part_is_drawn_anew(worked_on):
    """What presses one button twice must not press the one that has taken its place."""
    render = worked_on.locator("#actions button.main")
    expect(render).to_contain_text("Render")
    held = worked_on.locator("#actions [data-handover]")
    held.focus()
    _draw_bar_anew(worked_on)
    expect(held).to_be_focused()
    render.focus()
    _draw_bar_anew(worked_on)
    expect(render).to_be_focused()
    worked_on.evaluate("() => document.querySelector('#actions button.main').setAttribute('x-on:click', 'stopAll')")
    _draw_bar_anew(worked_on)
    expect(worked_on.locator("#actions")).to_be_focused()
    worked_on.keyboard.press("Tab")
    expect(held).to_be_focused()


def _draw_bar_anew(page):
    """As it happens whenever something changes elsewhere in the job."""
    page.evaluate("() => (document.querySelector('#actions').dataset.old = 'yes')")
    token = page.locator("meta[name=csrf-token]").get_attribute("content")
    source = page.locator("tr[data-source]").first.get_attribute("data-source")
    root = page.url.partition("/jobs")[0]
    page.request.post(f"{root}/sources/{source}/name", form={"title": "Named anew", "csrf_token": token})
    expect(page.locator("#actions:not([data-old])")).to_have_count(1)


def test_picked_rows_say_so_and_are_picked_from_where_somebody_was_last(worked_on):
    page = worked_on

    def picked():
        return page.locator("tr[aria-selected=true] td.name b").all_inner_texts()

    row(page, "Night ferry v2").locator("td.name").click(modifiers=["Control"])
    row(page, "song_a").locator("td.name").click(modifiers=["Shift"])
    assert picked() == ["Night ferry v2", "Night ferry v1", "song", "song_a"]
    page.keyboard.press("Escape")
    assert picked() == []
    page.keyboard.press("Control+a")
    assert len(picked()) == 5


def test_the_cursor_the_order_and_the_filter_are_where_somebody_left_them(worked_on):
    page = worked_on
    cell(page, "song_b", "Podcast").click()
    chosen = page.locator("td.cell.cur").get_attribute("id")
    page.keyboard.press("Enter")
    page.wait_for_selector(".reading[data-detail]")
    assert row_of(chosen) in page.url, "the reading of the chosen row, however fast Enter comes after the click"
    page.keyboard.press("Escape")
    expect(page.locator("td.cell.cur")).to_have_attribute("id", chosen)
    page.click("[data-sort=integrated]")
    page.keyboard.press("f")
    page.keyboard.type("song")
    expect(page.locator("tr[data-source]:visible")).to_have_count(3)
    page.reload()
    expect(page.locator("tr[data-source]:visible")).to_have_count(3)
    expect(page.locator("input.filter")).to_have_value("song")
    expect(page.locator("th[aria-sort=descending]")).to_have_count(1)
    expect(page.locator("td.cell.cur")).to_have_attribute("id", chosen)


def row_of(cell_id):
    return f"/sources/{cell_id.split('-')[1]}"
