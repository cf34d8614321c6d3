"""A season in one job, 5,000 sources at six destinations: its first rows, 20,000 deliverables put on the queue; and
200 open pages that all hear of every change."""

import argparse
import asyncio
import os
import re
import signal
import statistics
import tempfile
import time
from contextlib import suppress
from pathlib import Path
from typing import Any

import aiohttp
import requests
from playwright.sync_api import sync_playwright

from bench.board import make_board, make_programmes, timed_load
from bench.scale import Server
from nicelevel.store.audio import AudioFolder
from nicelevel.store.changes import announce
from nicelevel.store.database import connected, open_database
from nicelevel.store.models import Deliverable, Source
from tests.browser.conftest import CHROMIUM, FLAGS, HEIGHT, WIDTH
from tests.conftest import Live

ASKED_EVERY_S = 0.35
"""As open pages do (static/changes.js)."""

CHANGES, CHANGE_EVERY_S = 40, 0.25
NO_JOB = 0
READY_S = 5.0


def main() -> None:
    asked = argparse.ArgumentParser(description=__doc__)
    asked.add_argument("--sources", type=int, default=5000)
    asked.add_argument("--pages", type=int, default=200)
    told = asked.parse_args()
    with tempfile.TemporaryDirectory() as folder:
        # Nothing is rendered meanwhile: what is asked is how soon all of it is there.
        live = Live(Path(folder), settings={"WORKER_JOBS": "1"})
        try:
            open_database(live.database_url())
            audio = AudioFolder(live.data_folder / "audio")
            job_id = make_board(told.sources, make_programmes(Path(folder), audio), audio)
            print(f"{told.sources} sources of 60 s at six destinations | figure")
            print_board(live, job_id)
            print_queueing(live, job_id, "every plan made for it")
            print_queueing(live, job_id, "plans known")
            print_pages(live, told.pages)
        finally:
            live.stop()


def print_board(live: Live, job_id: int) -> None:
    with sync_playwright() as playwright:
        browser = playwright.chromium.launch(executable_path=CHROMIUM, args=FLAGS)
        page = browser.new_page(viewport={"width": WIDTH, "height": HEIGHT})
        for when in ("first", "again"):
            took_s = timed_load(page, f"{live.address}jobs/{job_id}")
            print(f"first rows drawn, {when} | {took_s:.2f} s", flush=True)
        began_s = time.perf_counter()
        page.wait_for_selector("#summary .count", timeout=600_000)
        print(f"until all 30,000 plans are counted | {time.perf_counter() - began_s:.0f} s", flush=True)
        print(f"first rows drawn, counted | {timed_load(page, f'{live.address}jobs/{job_id}'):.2f} s", flush=True)
        page.goto("about:blank")
        start_web_anew(live)
        took_s = timed_load(page, f"{live.address}jobs/{job_id}")
        print(f"first rows drawn, {READY_S:.0f} s after the server started anew | {took_s:.2f} s", flush=True)
        browser.close()


def start_web_anew(live: Live) -> None:
    """The web server dies, and its supervisor starts another one, which has its time to get ready."""
    before = web_of(live)
    os.kill(before, signal.SIGKILL)
    while not (found := [each for each in webs_of(live) if each != before]):
        time.sleep(0.1)
    while live.command_of(found[0]):
        with suppress(requests.ConnectionError):
            requests.get(f"{live.address}health", timeout=10)
            break
        time.sleep(0.1)
    time.sleep(READY_S)


def web_of(live: Live) -> int:
    return webs_of(live)[0]


def webs_of(live: Live) -> list[int]:
    return [pid for pid in live.children() if live.command_of(pid).endswith(" web")]


def print_queueing(live: Live, job_id: int, when: str) -> None:
    session = requests.Session()
    page = session.get(f"{live.address}runs").text
    found = re.search(r'name="csrf-token" content="([^"]+)"', page)
    assert found
    headers = {"X-CSRFToken": found.group(1), "Accept": "application/json"}
    began_s = time.perf_counter()
    answer = session.post(f"{live.address}jobs/{job_id}/render", headers=headers, timeout=600)
    took_s = time.perf_counter() - began_s
    with connected():
        rows = Deliverable.select().join(Source).where(Source.job == job_id).count()
    print(f"{rows} deliverables put on the queue, {when}, {answer.status_code} | {took_s:.1f} s", flush=True)
    began_s = time.perf_counter()
    stopped = session.post(f"{live.address}jobs/{job_id}/stop", headers=headers, timeout=600)
    print(f"all stopped, {stopped.status_code} | {time.perf_counter() - began_s:.1f} s", flush=True)


def print_pages(live: Live, count: int) -> None:
    delays_s, answers_s, busy = asyncio.run(_pages(live.address, count, Server(web_of(live))))
    print(f"{count} open pages: a change until each of them has it | {_told(delays_s)}")
    print(f"{count} open pages: an answer | {_told(answers_s)}; {busy:.2f} cores of the web server")


def _told(seconds: list[float]) -> str:
    ordered = sorted(seconds)
    return (
        f"median {1000 * statistics.median(ordered):.0f} ms, 95 % {1000 * ordered[int(0.95 * len(ordered))]:.0f} ms"
    )


async def _pages(address: str, count: int, web: Server) -> tuple[list[float], list[float], float]:
    said_s: list[float] = []
    delays_s: list[float] = []
    answers_s: list[float] = []
    ends = asyncio.Event()

    async def page(session: aiohttp.ClientSession, after_s: float) -> None:
        version = ""
        await asyncio.sleep(after_s)
        while not ends.is_set():
            began_s = time.perf_counter()
            async with session.get(f"{address}changes", params={"since": version}) as answer:
                told: dict[str, Any] = await answer.json()
            answers_s.append(time.perf_counter() - began_s)
            version = told["version"]
            ours = [each["source"] for each in told["changes"] if each.get("job") == NO_JOB]
            delays_s.extend(time.perf_counter() - said_s[number] for number in ours)
            await asyncio.sleep(ASKED_EVERY_S)

    # A browser keeps its connection; so does each of these.
    async with aiohttp.ClientSession(connector=aiohttp.TCPConnector(limit=0)) as session:
        pages = [asyncio.create_task(page(session, ASKED_EVERY_S * number / count)) for number in range(count)]
        await asyncio.sleep(3.0)
        began_s, busy_s = time.perf_counter(), web.busy_s()
        answers_s.clear()
        for number in range(CHANGES):
            said_s.append(time.perf_counter())
            await asyncio.to_thread(_announce, number)
            await asyncio.sleep(CHANGE_EVERY_S)
        busy = (web.busy_s() - busy_s) / (time.perf_counter() - began_s)
        await asyncio.sleep(2.0)
        ends.set()
        await asyncio.gather(*pages)
    assert len(delays_s) == CHANGES * count, f"{len(delays_s)} of {CHANGES * count} were heard"
    return delays_s, answers_s, busy


def _announce(number: int) -> None:
    with connected():
        announce(NO_JOB, number)


if __name__ == "__main__":
    main()
