"""The board in a browser: how soon a large one is there, how it scrolls, how soon a changed spec is in its cells.

The sources are a few programmes, each kept under many digests: so every one is planned for itself.
"""

import hashlib
import os
import shutil
import statistics
import tempfile
import time
from dataclasses import replace
from pathlib import Path

from playwright.sync_api import Page, sync_playwright

from nicelevel.core.measure import measure
from nicelevel.core.specs import Spec
from nicelevel.core.specs.library import shipped_specs
from nicelevel.core.specs.write import spec_to_toml
from nicelevel.store.audio import AudioFolder
from nicelevel.store.database import connected, database, open_database
from nicelevel.store.jobs import make_job
from nicelevel.store.models import Source
from nicelevel.store.readings import load_reading, save_reading
from nicelevel.store.sources import add_source
from nicelevel.store.specs import keep_version
from tests import signals
from tests.browser.conftest import CHROMIUM, FLAGS, HEIGHT, WIDTH
from tests.conftest import Live

SECONDS, PROGRAMMES, TIMES = 60, 8, 7
TARGETS = (-27.0, -24.0, -23.0, -20.0, -18.0, -16.0)

WATCH = """() => {
  window.changed = new Promise((done) => {
    const seen = new MutationObserver(() => {
      seen.disconnect();
      requestAnimationFrame(() => done(performance.now()));
    });
    seen.observe(document.querySelector("table.grid tbody"), { childList: true, subtree: true });
  });
  return performance.now();
}"""

SCROLL = """() => new Promise((done) => {
  const rows = document.querySelector(".rows"), waits = [];
  let last = performance.now();
  const step = (now) => {
    waits.push(now - last);
    last = now;
    rows.scrollTop += 60;
    if (rows.scrollTop + rows.clientHeight < rows.scrollHeight - 1) requestAnimationFrame(step);
    else done(waits.slice(2));
  };
  requestAnimationFrame(step);
})"""


def main() -> None:
    with tempfile.TemporaryDirectory() as folder:
        live = Live(Path(folder))
        try:
            open_database(live.database_url())
            audio = AudioFolder(live.data_folder / "audio")
            found = make_programmes(Path(folder), audio)
            with sync_playwright() as playwright:
                browser = playwright.chromium.launch(executable_path=CHROMIUM, args=FLAGS)
                page = browser.new_page(viewport={"width": WIDTH, "height": HEIGHT})
                print("board of 60 s sources × 6 destinations | figure")
                for count in (100, 500):
                    report(page, live.address, make_board(count, found, audio), count)
                browser.close()
        finally:
            live.stop()


def report(page: Page, address: str, job_id: int, count: int) -> None:
    first_s, again_s = (timed_load(page, f"{address}jobs/{job_id}") for _ in range(2))
    print(f"{count} sources: first rows drawn | {1000 * first_s:.0f} ms, again {1000 * again_s:.0f} ms")
    page.wait_for_selector("#summary .count")
    changes = [time_of_change(page, number) for number in range(TIMES)]
    print(f"{count} sources: spec kept until its cells are drawn | {statistics.median(changes):.0f} ms")
    waits = sorted(page.evaluate(SCROLL))
    late = sum(wait > 34 for wait in waits)
    median_ms = statistics.median(waits)
    print(f"{count} sources: frames of a whole scroll | median {median_ms:.1f} ms, {late} of {len(waits)} late")
    print(f"{count} sources: rows left to draw | {page.locator('tr[data-outline]').count()}", flush=True)


def timed_load(page: Page, address: str) -> float:
    start = time.perf_counter()
    page.goto(address, wait_until="commit")
    page.wait_for_selector("tr td.cell")
    return time.perf_counter() - start


def time_of_change(page: Page, number: int) -> float:
    """Milliseconds from keeping another target of the first destination until all cells in view show it."""
    page.wait_for_timeout(1200)
    start = page.evaluate(WATCH)
    with connected():
        keep_version("own-0", spec_to_toml(spec_for(0, -26.0 + 0.1 * number)))
    return float(page.evaluate("window.changed")) - float(start)


def spec_for(number: int, target: float) -> Spec:
    spec = shipped_specs()["european-broadcast"]
    assert spec.loudness
    about = spec.spec.model_copy(update={"name": f"Own {number}", "source": "house rule"})
    return spec.model_copy(update={"spec": about, "loudness": spec.loudness.model_copy(update={"target": target})})


def make_programmes(folder: Path, audio: AudioFolder) -> list[str]:
    """Digests of the programmes that every board is made of."""
    digests = []
    for number in range(PROGRAMMES):
        path = signals.write(folder / f"{number}.wav", 0.3 * signals.programme(SECONDS, seed=number))
        digest = hashlib.sha256(path.read_bytes()).hexdigest()
        with audio.keeping_hops(digest) as hops:
            reading = measure(path, hops_folder=hops)
        audio.adopt(path, digest)
        with connected():
            save_reading(digest, reading, audio)
        digests.append(digest)
    return digests


def make_board(count: int, digests: list[str], audio: AudioFolder) -> int:
    """A job with so many sources, each with contents of its own."""
    with connected():
        for number, target in enumerate(TARGETS):
            keep_version(f"own-{number}", spec_to_toml(spec_for(number, target)))
        job = make_job(f"{count} sources", slugs=[f"own-{number}" for number in range(len(TARGETS))])
        readings = [load_reading(digest, audio) for digest in digests]
        # All at once: what waits to be measured and has no job, a worker would find and measure.
        with database.atomic():
            for number in range(count):
                digest = hashlib.sha256(f"{count} {number}".encode()).hexdigest()
                home = audio.audio_path(digest).parent
                shutil.copytree(audio.audio_path(digests[number % PROGRAMMES]).parent, home, copy_function=os.link)
                save_reading(digest, replace(readings[number % PROGRAMMES]), audio)
                add_source(job.id, f"source {number:03d}.wav", digest, 1)
            Source.update(state="measured").where(Source.job == job.id).execute()
        return int(job.id)


if __name__ == "__main__":
    main()
