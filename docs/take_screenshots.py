"""Take the pictures of docs/screenshots from a running Nice Level with its demo job.

.venv/bin/python -m docs.take_screenshots http://127.0.0.1:8417/ [folder]
"""

import sys
import tempfile
from pathlib import Path

from playwright.sync_api import Page, sync_playwright

from nicelevel.demo.sources import DEMO_SOURCES, make_source
from tests.browser.conftest import CHROMIUM, FLAGS, HEIGHT, WIDTH

RENDERING_MS = 600_000


def take(address: str, folder: Path) -> None:
    """Every main view in both themes."""
    with sync_playwright() as playwright:
        browser = playwright.chromium.launch(executable_path=CHROMIUM, args=FLAGS)
        page = browser.new_page(viewport={"width": WIDTH, "height": HEIGHT})
        page.on("console", lambda message: print("console:", message.text))
        for theme in ("light", "dim"):
            page.goto(address)
            page.evaluate("theme => localStorage.setItem('theme', theme)", "dark" if theme == "dim" else "light")
            page.goto(address)
            page.wait_for_selector("table.jobs .miniatures svg")
            if theme == "light":
                page.screenshot(path=folder / "jobs-light.png")
            _board(page)
            page.screenshot(path=folder / f"board-{theme}.png")
            _reading(page, at_a_note=theme == "dim")
            page.screenshot(path=folder / f"reading-{theme}.png")
            page.keyboard.press("Escape")
            page.wait_for_selector("td.cell")
            page.wait_for_load_state()
            page.keyboard.press("s")
            page.wait_for_selector(".scatter")
            page.wait_for_timeout(300)
            if theme == "light":
                page.screenshot(path=folder / "spread-light.png")
                _prepare(page, address, folder)
                page.goto(f"{address}specs/loud-streaming")
                page.wait_for_timeout(300)
                page.screenshot(path=folder / "spec-light.png")
        page.evaluate("localStorage.setItem('theme', 'light')")
        page.goto(address)
        _board(page)
        _render_all(page, folder)
        page.screenshot(path=folder / "board-proved.png")
        _compare(page, folder)
        _handover(page, folder)
        page.keyboard.press("o")
        page.wait_for_selector(".sheet")
        page.set_viewport_size({"width": 860, "height": 1122})
        page.screenshot(path=folder / "proof-sheet.png")
        page.set_viewport_size({"width": 1280, "height": 800})
        _voice(page, address, folder)
        _arrivals(page, address, folder)
        browser.close()


def _voice(page: Page, address: str, folder: Path) -> None:
    """The talk once more, by who knows no numbers; its job goes to the trash afterwards."""
    number = next(number for number, demo in enumerate(DEMO_SOURCES) if demo.title == "Talk at the lamp")
    with tempfile.TemporaryDirectory() as name:
        page.on("filechooser", lambda _: None)  # from then on they are caught, however soon one comes
        page.goto(address)
        page.wait_for_selector("table.jobs .miniatures svg")
        with page.expect_file_chooser() as chooser:
            page.keyboard.press("v")
        chooser.value.set_files(make_source(number, Path(name)))
        page.wait_for_selector(".voice [data-download]")
    page.wait_for_timeout(500)
    page.screenshot(path=folder / "voice-light.png")
    page.goto(address)
    page.locator("table.jobs tbody tr").first.locator("summary").click()
    page.locator("table.jobs tbody tr").first.get_by_text("Delete it").click()
    page.wait_for_timeout(1_000)


def _arrivals(page: Page, address: str, folder: Path) -> None:
    """The lines of the demo, with what came through them today."""
    page.goto(f"{address}arrivals/")
    page.wait_for_selector(".bubble.held")
    page.wait_for_selector(".bubble.going", state="detached", timeout=RENDERING_MS)
    page.wait_for_timeout(1_500)
    page.screenshot(path=folder / "arrivals-light.png")


def _prepare(page: Page, address: str, folder: Path) -> None:
    """A source with steps, the channels of another, and the recipes."""
    page.goto(address)
    _board(page)
    page.locator("tr[data-source]", has_text="Talk at the lamp").locator("td.cell").first.click()
    page.wait_for_selector("[data-open-prepare]")
    page.keyboard.press("p")
    page.wait_for_selector("#steps")
    if page.locator("section.step").count() == 1:
        page.click("text=Take a recipe")
        page.click("text=None: as it came")
        page.wait_for_selector("section.step", state="detached")
    for number, do in enumerate(("tick", "high_pass", "gate", "even", "pauses")):
        if page.locator("section.step").count() == number:
            page.click(f"[data-add-step={do}]")
            page.wait_for_selector(f"section.step[data-number='{number + 1}']")
    page.wait_for_selector("#steps[data-pending='']")
    page.wait_for_timeout(1_000)
    page.screenshot(path=folder / "prepare-light.png")
    page.goto(address)
    _board(page)
    page.locator("tr[data-source]", has_text="Lamp room storm").locator("td.cell").first.click()
    page.wait_for_selector("[data-open-channels]", state="attached")
    page.keyboard.press("k")
    page.wait_for_selector("#channels .crossing")
    page.keyboard.press("u")
    page.wait_for_timeout(2_000)
    page.screenshot(path=folder / "channels-light.png")
    page.goto(f"{address}recipes/")
    page.wait_for_selector("article")
    page.screenshot(path=folder / "recipes-light.png")


def _board(page: Page) -> None:
    page.click("table.jobs td.name a")
    _choose(page)


def _choose(page: Page) -> None:
    page.wait_for_selector("td.cell")
    page.wait_for_load_state()
    page.wait_for_selector("td.cell.cur")
    page.locator("tr", has_text="part 2").locator("td.cell").nth(2).click()
    page.wait_for_selector(".price svg")
    page.wait_for_timeout(400)


def _reading(page: Page, at_a_note: bool) -> None:
    """The theme with its clipped places: the whole of it, or the samples of one place."""
    page.locator("tr", has_text="Lamp room theme").locator("td.cell").first.click()
    page.wait_for_selector("[data-open-reading]")
    page.wait_for_timeout(400)
    page.keyboard.press("Enter")
    page.wait_for_selector(".reading[data-detail=bins]")
    if at_a_note:
        for key in (".", "+", "+", "+"):
            page.keyboard.press(key)
            page.wait_for_timeout(300)
    page.wait_for_timeout(700)


def _render_all(page: Page, folder: Path) -> None:
    """Render what lands, where it is not rendered yet, and look at it under way."""
    # What is asked is answered first: until then the sources that it is about are not rendered.
    for words in ("Each for itself", "One stereo source"):
        while page.locator("[data-answer]", has_text=words).count():
            page.locator("[data-answer]", has_text=words).first.click()
            page.wait_for_timeout(1500)
    if page.locator("#actions .main:enabled").count():
        page.click("#actions .main")
        page.wait_for_selector("[data-unfinished]")
        page.wait_for_timeout(4_000)
        board = page.url
        page.goto(board.partition("/jobs")[0] + "/runs")
        page.wait_for_timeout(300)
        page.screenshot(path=folder / "runs-light.png")
        page.goto(board)
        page.wait_for_selector("#actions .main:disabled", timeout=RENDERING_MS)
        page.wait_for_timeout(7_000)


def _compare(page: Page, folder: Path) -> None:
    """Before and after: the whole at the same loudness, and some seconds of it while a blind comparison goes on."""
    board = page.url
    page.keyboard.press("c")
    page.wait_for_selector(".compare[data-drawn=yes]")
    page.wait_for_timeout(700)
    page.screenshot(path=folder / "compare-light.png")
    page.keyboard.press("t")
    for key in ("q", "x", "+", "+", "+", "+"):
        page.keyboard.press(key)
        page.wait_for_timeout(400)
    page.wait_for_timeout(7_000)
    page.screenshot(path=folder / "compare-dim.png")
    page.keyboard.press(" ")
    page.keyboard.press("t")
    page.goto(board)
    _choose(page)


def _client(page: Page, folder: Path) -> None:
    """What somebody with a link is shown, once they have said something."""
    page.fill(".link [name=client]", "The museum")
    page.press(".link [name=client]", "Enter")
    page.wait_for_selector("[data-copy]")
    link = page.get_attribute("[data-copy]", "data-copy")
    assert link
    page.goto(link)
    page.wait_for_selector("input[type=range]:not([max='1'])")
    page.locator("input[type=range]").fill("109.5")
    page.click("text=where it plays")
    page.fill("[name=note]", "A little more air after the last word, please.")
    page.click("text=Ask for the change")
    page.wait_for_selector("tr.note")
    page.locator("[data-hear-at]").nth(1).click()
    page.get_by_role("button", name="Accepted").click()
    page.wait_for_selector("tr[data-said=accepted]")
    page.wait_for_timeout(8_000)  # until no word is in the way
    page.screenshot(path=folder / "client-light.png")


def _handover(page: Page, folder: Path) -> None:
    """The package, sent to the receiving desk and answered; back to the board."""
    board = page.url
    page.keyboard.press("h")
    page.wait_for_selector("#tree tr[data-state=proved]")
    page.wait_for_load_state()
    page.keyboard.press("s")
    page.wait_for_selector("#sendings article[data-state=accepted]", timeout=RENDERING_MS)
    page.wait_for_timeout(7_000)
    page.screenshot(path=folder / "handover-light.png")
    _client(page, folder)
    page.goto(board)
    _choose(page)


if __name__ == "__main__":
    take(sys.argv[1], Path(sys.argv[2] if len(sys.argv) > 2 else Path(__file__).parent / "screenshots"))
