"""Playing and seeking for hours: the memory of page and server, and what is left of streams that were abandoned.

Four pages side by side on a running Nice Level, each with a listener that knows no rest: so each hour of it is four
of listening. Not part of `make bench`: `python -m bench.soak ADDRESS JOB MINUTES`.
"""

import os
import random
import sys
import time
from pathlib import Path
from urllib.parse import urlsplit

from playwright.sync_api import Browser, Page, sync_playwright

from tests.browser.conftest import CHROMIUM, FLAGS, HEIGHT, WIDTH

PAGES, TELL_EVERY_S, SETTLE_S = 4, 240, 1.0
KEYS = ("b", "e", "g", "1", "2", "3", ".", ",", "ArrowDown", "ArrowUp", "ArrowRight", "ArrowLeft")


def main(address: str, job: str, minutes: float) -> None:
    port = urlsplit(address).port or 80
    with sync_playwright() as playwright:
        browser = playwright.chromium.launch(executable_path=CHROMIUM, args=[*FLAGS, "--js-flags=--expose-gc"])
        pages = [listener(browser, f"{address}jobs/{job}") for _ in range(PAGES)]
        chance, start = random.Random(1), time.monotonic()
        told, actions, playing_s, last = -float(TELL_EVERY_S), 0, 0.0, time.monotonic()
        print(
            "minutes | heard, min | actions | server MB | pages MB | JS heap MB | sockets of the server", flush=True
        )
        while (passed := time.monotonic() - start) < 60 * minutes:
            if passed - told >= TELL_EVERY_S:
                told = passed
                tell(passed, playing_s, actions, pages, port)
            for page in pages:
                act(page, chance)
                actions += 1
            time.sleep(SETTLE_S)
            now = time.monotonic()
            playing_s += (now - last) * sum(is_playing(page) for page in pages)
            last = now
        for page in pages:
            page.goto("about:blank")
        time.sleep(5)
        tell(time.monotonic() - start, playing_s, actions, pages, port)
        browser.close()


def listener(browser: Browser, address: str) -> Page:
    page = browser.new_page(viewport={"width": WIDTH, "height": HEIGHT}, bypass_csp=True)
    page.goto(address)
    page.wait_for_selector("[data-hear-root]")
    return page


def act(page: Page, chance: random.Random) -> None:
    """Something a listener does: mostly seeking, sometimes another take, another cell, a page anew."""
    if chance.random() < 0.005:
        page.reload()
        page.wait_for_selector("[data-hear-root]")
    drawn = page.locator("[data-over-time]")
    if chance.random() < 0.5 and drawn.count():
        box = drawn.bounding_box()
        if box:
            page.mouse.click(box["x"] + 50 + chance.random() * (box["width"] - 80), box["y"] + 60)
    else:
        page.keyboard.press(chance.choice(KEYS))
    if not is_playing(page):
        page.keyboard.press(" ")


def is_playing(page: Page) -> bool:
    return bool(page.evaluate("document.querySelector('[data-hear-root]')?.dataset.state !== 'still'"))


def tell(passed_s: float, playing_s: float, actions: int, pages: list[Page], port: int) -> None:
    heaps = [page.evaluate("window.gc?.(), performance.memory.usedJSHeapSize") for page in pages]
    server = pids_of(f"--bind 127.0.0.1:{port}")
    figures = (
        f"{passed_s / 60:.0f}",
        f"{playing_s / 60:.0f}",
        actions,
        f"{sum(map(resident_mb, server)):.0f}",
        f"{sum(map(resident_mb, pids_of('type=renderer', os.getpid()))):.0f}",
        ", ".join(f"{heap / 1e6:.0f}" for heap in heaps),
        sum(sockets(pid) for pid in server),
    )
    print(" | ".join(map(str, figures)), flush=True)


def pids_of(words: str, forebear: int | None = None) -> list[int]:
    """Processes whose command line has some words; of one forebear alone where one is given."""
    found = []
    for entry in Path("/proc").iterdir():
        if entry.name.isdigit():
            try:
                command = (entry / "cmdline").read_bytes().replace(b"\0", b" ").decode(errors="replace")
            except OSError:
                continue
            if words in command and (forebear is None or forebear in forebears(int(entry.name))):
                found.append(int(entry.name))
    return found


def forebears(pid: int) -> list[int]:
    found = []
    while pid > 1:
        try:
            pid = int(Path(f"/proc/{pid}/stat").read_text().rpartition(")")[2].split()[1])
        except OSError:
            break
        found.append(pid)
    return found


def resident_mb(pid: int) -> float:
    try:
        lines = Path(f"/proc/{pid}/status").read_text().splitlines()
    except OSError:
        return 0.0
    kib = next((line.split()[1] for line in lines if line.startswith("VmRSS")), "0")
    return int(kib) * 1024 / 1e6


def sockets(pid: int) -> int:
    """Open sockets: one that listens, those of pages and of the database."""
    try:
        return sum(str(each.readlink()).startswith("socket") for each in Path(f"/proc/{pid}/fd").iterdir())
    except OSError:
        return 0


if __name__ == "__main__":
    main(sys.argv[1], sys.argv[2], float(sys.argv[3]))
