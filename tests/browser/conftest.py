"""Debian's headless Chromium, kept off the network, on the real thing."""

import time
from collections.abc import Iterator

import pytest
from playwright.sync_api import Browser, FloatRect, Locator, Page, expect, sync_playwright

CHROMIUM = "/usr/bin/chromium"
FLAGS = [
    "--no-sandbox",
    "--disable-gpu",
    "--disable-background-networking",
    "--disable-component-update",
    "--disable-sync",
    "--no-first-run",
]
WIDTH, HEIGHT = 1280, 800
PATIENCE_MS = 30_000
expect.set_options(timeout=PATIENCE_MS)


@pytest.fixture(scope="module")
def browser() -> Iterator[Browser]:
    with sync_playwright() as playwright:
        running = playwright.chromium.launch(executable_path=CHROMIUM, args=FLAGS)
        yield running
        running.close()


@pytest.fixture
def page(browser, live) -> Iterator[Page]:
    """A fresh page; the test fails where it logs an error or asks another machine."""
    context = browser.new_context(viewport={"width": WIDTH, "height": HEIGHT}, accept_downloads=True)
    made = context.new_page()
    wrong: list[str] = []
    made.on("pageerror", lambda error: wrong.append(str(error)))
    made.on("console", lambda message: message.type == "error" and wrong.append(f"{message.text} {message.location}"))
    made.on("request", lambda request: request.url.startswith(live.address) or wrong.append(request.url))
    under_way: dict[int, str] = {}
    made.on("request", lambda request: under_way.__setitem__(id(request), f"{request.method} {request.url}"))
    for ended in ("requestfinished", "requestfailed"):
        made.on(ended, lambda request: under_way.pop(id(request), None))
    made.set_default_timeout(PATIENCE_MS)
    made.wrong = wrong
    yield made
    print(f"At its end: {made.url}; not answered: {[*under_way.values()]}")  # shown where the test failed
    context.close()
    assert wrong == []


@pytest.fixture
def board(page, live) -> Page:
    """The board of a new, empty job."""
    page.goto(live.address)
    return make_job(page, "Test work")


def make_job(page: Page, title: str) -> Page:
    """From the page of all jobs to the board of a new one, when it is there."""
    page.fill("input[name=title]", title)
    page.click("text=Make it")
    page.wait_for_selector("text=Drop audio files anywhere")
    return page


def box_of(locator: Locator) -> FloatRect:
    """Where something is, in pixels; waited for, for what is drawn anew at this moment is nowhere."""
    end_s = time.monotonic() + PATIENCE_MS / 1000
    while (box := locator.bounding_box()) is None:
        assert time.monotonic() < end_s, f"{locator} is nowhere to be seen"
        locator.page.wait_for_timeout(20)
    return box
