"""A voice recording in a real browser: let go on its place, heard before and after, downloaded."""

import base64

import numpy as np
import pytest
from playwright.sync_api import expect

from nicelevel.core.measure import measure
from tests import episodes, signals

LET_GO = """
([name, data]) => {
  const transfer = new DataTransfer();
  transfer.items.add(new File([Uint8Array.from(atob(data), (sign) => sign.charCodeAt(0))], name));
  const fire = (kind, where) => where.dispatchEvent(
    new DragEvent(kind, { dataTransfer: transfer, bubbles: true, cancelable: true }));
  fire("dragenter", document.body); fire("dragover", document.body);
  fire("drop", document.querySelector(".a-voice p"));
}
"""


def _talk(folder):
    sound, _ = episodes.episode([0, -9, 5], [0.6, 0.5, 1.2])
    return signals.write(folder / "Talk at the quay.wav", 0.2 * np.concatenate([sound, sound], axis=1))


def test_from_a_drop_to_a_download_without_a_figure(page, live, tmp_path):
    page.goto(live.address)
    path = _talk(tmp_path)
    page.evaluate(LET_GO, [path.name, base64.b64encode(path.read_bytes()).decode()])
    page.wait_for_url("**/voice")
    expect(page.locator("h1")).to_have_text("Talk at the quay")
    expect(page.locator(".way li.done")).to_have_count(5)
    expect(page.locator(".line")).to_contain_text("Evened out speech by")
    expect(page.locator(".waves svg")).to_have_count(2)
    with page.expect_download() as coming:
        page.keyboard.press("d")
    coming.value.save_as(tmp_path / "talk.mp3")
    reading = measure(tmp_path / "talk.mp3")
    assert reading.source.encoding == "mp3"
    assert reading.integrated_lufs == pytest.approx(-16.0, abs=0.5)
    assert reading.true_peak_dbtp <= -1.0
    # Before and after, here; then drawn, on a page of its own.
    page.keyboard.press("Space")
    expect(page.locator("[data-hear-root]")).to_have_attribute("data-state", "playing")
    page.keyboard.press("3")
    expect(page.locator("[data-kind=made]")).to_have_attribute("aria-pressed", "true")
    page.keyboard.press("Space")
    page.keyboard.press("c")
    page.wait_for_url("**/compare/**")
    page.go_back()
    page.keyboard.press("Escape")
    page.wait_for_url("**/jobs/*")
    expect(page.locator("#summary .sign.proved")).to_have_count(1)


def test_what_is_no_recording_is_said(page, live, tmp_path):
    page.on("filechooser", lambda _: None)  # from then on they are caught, however soon one comes
    page.goto(live.address)
    with page.expect_file_chooser() as chooser:
        page.click("text=Choose the recording")
    (tmp_path / "letter.wav").write_text("This is no sound.")
    chooser.value.set_files(tmp_path / "letter.wav")
    page.wait_for_url("**/voice")
    expect(page.locator(".way li.halted")).to_have_count(1)
    expect(page.locator("article .bad")).to_be_visible()
