"""How soon something is heard after the key: the board in a browser, an hour of 96 kHz at a place not heard before.

Measured on the page: from the key press to the time for which the first sound is set on the browser's own clock.
"""

import hashlib
import os
import statistics
import tempfile
from pathlib import Path

import numpy as np
from playwright.sync_api import Page, sync_playwright

from nicelevel.core.channels import layout_from_count
from nicelevel.core.files import take_in
from nicelevel.core.files.wave_header import wave_header
from nicelevel.core.files.write import packed
from nicelevel.core.prepare import prepare
from nicelevel.core.specs import Spec, parse_spec
from nicelevel.core.specs.write import spec_to_toml
from nicelevel.core.steps import resolve
from nicelevel.core.steps.rate import Rate
from nicelevel.core.values import OutputFormat
from nicelevel.store.audio import AudioFolder
from nicelevel.store.database import connected, open_database
from nicelevel.store.jobs import make_job
from nicelevel.store.models import Source
from nicelevel.store.readings import save_reading
from nicelevel.store.sources import add_source
from nicelevel.store.specs import keep_version
from tests import signals
from tests.browser.conftest import CHROMIUM, FLAGS, HEIGHT, WIDTH
from tests.conftest import Live

SECONDS, RATE_HZ, TARGET_RATE_HZ, TIMES = 3600, 96_000, 48_000, 10

WATCH = """() => {
  const { start } = AudioBufferSourceNode.prototype;
  AudioBufferSourceNode.prototype.start = function (when, ...rest) {
    const { currentTime, baseLatency, outputLatency } = this.context;
    window.heardAt ??= performance.now() + 1000 * (when - currentTime + (outputLatency || baseLatency || 0));
    return start.call(this, when, ...rest);
  };
  addEventListener("keydown", (event) => {
    if (event.key !== " ") return;
    window.pressedAt = event.timeStamp;
    window.heardAt = undefined;
  }, true);
}"""


def main() -> None:
    with tempfile.TemporaryDirectory() as folder:
        live = Live(Path(folder))
        try:
            open_database(live.database_url())
            job_id = make_hour(Path(folder), AudioFolder(live.data_folder / "audio"))
            with sync_playwright() as playwright:
                browser = playwright.chromium.launch(executable_path=CHROMIUM, args=FLAGS)
                page = browser.new_page(viewport={"width": WIDTH, "height": HEIGHT}, bypass_csp=True)
                page.goto(f"{live.address}jobs/{job_id}")
                page.wait_for_selector("[data-kind=plan]")
                page.evaluate(WATCH)
                print(f"an hour of {RATE_HZ // 1000} kHz, {TIMES} places | first sound, ms: median, longest")
                for number, name in ((1, "source, resampled to 48 kHz"), (2, "plan, resampled and limited")):
                    times = [first_sound_ms(page, number, place) for place in range(TIMES)]
                    print(f"{name} | {statistics.median(times):.0f}, {max(times):.0f}", flush=True)
                browser.close()
        finally:
            live.stop()


def first_sound_ms(page: Page, take: int, place: int) -> float:
    """Of one take at one of the places, each of which is new to it."""
    page.keyboard.press(str(take))
    box = page.locator("[data-over-time]").bounding_box()
    assert box
    share = (place + 0.37 * take) / (TIMES + 1)
    page.mouse.click(box["x"] + 50 + share * (box["width"] - 80), box["y"] + 60)
    page.keyboard.press(" ")
    page.wait_for_function("window.heardAt > window.pressedAt")
    took_ms = float(page.evaluate("window.heardAt - window.pressedAt"))
    page.wait_for_timeout(700)
    page.keyboard.press(" ")
    return took_ms


def make_hour(folder: Path, audio: AudioFolder) -> int:
    """A job with an hour of programme, measured and prepared for a loud destination at another rate."""
    path = folder / "hour.wav"
    write_hour(path)
    digest = hashlib.sha256(str(path.stat().st_size).encode()).hexdigest()
    with take_in(path) as file:
        shape = file.shape
    for chain in (resolve(shape, ()), resolve(shape, (Rate(hz=TARGET_RATE_HZ),))):
        name = chain.digest_of(digest)
        with audio.keeping_hops(name) as hops:
            reading = prepare(path, chain, hops).reading
        with connected():
            save_reading(name, reading, audio)
        if chain.is_nothing:
            target = reading.integrated_lufs - reading.true_peak_dbtp - 1.0 + 3.0
    size_bytes = path.stat().st_size
    audio.adopt(path, digest)
    with connected():
        keep_version("hour", spec_to_toml(spec_for(target)))
        job = make_job("An hour", slugs=["hour"])
        add_source(job.id, "hour.wav", digest, size_bytes)
        Source.update(state="measured").where(Source.job == job.id).execute()
        return int(job.id)


def spec_for(target: float) -> Spec:
    return parse_spec(
        f'[spec]\nname = "Hour"\n[loudness]\ntarget = {target:.1f}\ntolerance = 0.5\n[limits]\n'
        'max_true_peak_dbtp = -1.0\n[method]\nallow = "limiter"\n[[formats]]\ncontainer = "wav"\n'
        f'encoding = "pcm_24"\nsample_rate = {TARGET_RATE_HZ}\n',
        "hour",
    )


def write_hour(path: Path) -> None:
    """A minute of programme again and again."""
    output = OutputFormat("wav", "pcm_24", RATE_HZ, layout_from_count(2), "none")
    minute = packed(np.rint(0.5 * signals.programme(60, RATE_HZ, seed=1) * 2**23).astype(np.int32), output)
    with path.open("wb") as file:
        file.write(wave_header(output, SECONDS // 60 * len(minute)))
        for _ in range(SECONDS // 60):
            file.write(minute)
        file.flush()
        os.fsync(file.fileno())


if __name__ == "__main__":
    main()
