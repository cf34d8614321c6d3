"""A watched folder on the command line: once, while files come, killed, and told to end."""

import json
import os
import signal
import subprocess
import sys
import time

import pytest
import soundfile

from tests import signals

COMMAND = [sys.executable, "-m", "nicelevel.cli.main", "watch"]


@pytest.fixture
def folders(tmp_path):
    made = [tmp_path / name for name in ("in", "out", "held")]
    made[0].mkdir()
    return made


def _arguments(folders, *more):
    source, publish, hold = map(str, folders)
    asked = ("--in", source, "--publish", publish, "--hold", hold, "--spec", "full-resolution", "--settle-s", "0.2")
    return [*COMMAND, *asked, "--json", *more]


def _until(true, within_s=60.0):
    end = time.monotonic() + within_s
    while time.monotonic() < end:
        if true():
            return True
        time.sleep(0.05)
    return False


def test_once_ends_when_all_is_quiet_and_holds_what_is_cut(folders):
    source, publish, hold = folders
    for name in ("a", "b"):
        signals.write(source / f"{name}.wav", signals.noise(1, seed=ord(name)))
    whole = (source / "a.wav").read_bytes()
    (source / "cut.wav").write_bytes(whole[: len(whole) // 2])
    done = subprocess.run(_arguments(folders, "--once"), capture_output=True, text=True, timeout=120)
    said = [json.loads(line) for line in done.stdout.splitlines()]
    assert {each["path"].rpartition("/")[2] for each in said} == {"a.wav", "b.wav", "cut.wav"}
    (cut,) = [each for each in said if "error" in each]
    assert cut["error"]["code"] == "truncated"
    assert cut["held"] == str(hold / "cut.wav")
    assert done.returncode == 1
    assert sorted(path.name for path in publish.glob("*.wav")) == ["a.wav", "b.wav"]
    again = subprocess.run(_arguments(folders, "--once"), capture_output=True, text=True, timeout=120)
    assert (again.stdout, again.returncode) == ("", 0)


def test_a_growing_file_is_published_when_it_is_whole_and_sigterm_ends_it(folders):
    source, publish, _ = folders
    data = signals.write(source.parent / "x.wav", signals.noise(4)).read_bytes()
    process = subprocess.Popen(_arguments(folders), stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True)
    try:
        with (source / "Bulletin.wav").open("wb") as file:
            for first in range(0, len(data), len(data) // 6):
                time.sleep(0.4)
                assert not (publish / "Bulletin.wav").exists()
                file.write(data[first : first + len(data) // 6])
                file.flush()
        assert _until((publish / "Bulletin.wav").exists)
        assert soundfile.info(publish / "Bulletin.wav").frames == 4 * 48_000
        said = process.stdout.readline()  # it is said once it is written down, a moment after it stands there
        start = time.monotonic()
        process.send_signal(signal.SIGTERM)
        process.wait(10)
        assert time.monotonic() - start < 5.0
        assert json.loads(said)["published"] == str(publish / "Bulletin.wav")
        assert process.stdout.read() == ""
    finally:
        process.kill()


def test_killed_at_any_moment_nothing_half_is_published_and_nothing_is_lost(folders):
    """Every name that stands is whole at every moment; what was under way is done again."""
    source, publish, _ = folders
    lengths = {}
    for number in range(6):
        signals.write(source / f"{number}.wav", signals.noise(20 + number, seed=number))
        lengths[f"{number}.wav"] = (20 + number) * 48_000
    for turn in range(5):
        process = subprocess.Popen(_arguments(folders), stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
        end = time.monotonic() + 1.5 + 0.4 * turn
        while time.monotonic() < end:
            for path in publish.glob("*.wav"):
                assert soundfile.info(path).frames == lengths[path.name]
        os.kill(process.pid, signal.SIGKILL)
        process.wait()
    done = subprocess.run(_arguments(folders, "--once"), capture_output=True, text=True, timeout=240)
    assert done.returncode == 0
    assert {path.name: soundfile.info(path).frames for path in publish.glob("*.wav")} == lengths
    assert [path.name for path in (publish / ".nice-level-line").iterdir()] == ["state.json"]


def test_wrong_usage_is_said(folders):
    wrong = subprocess.run(_arguments(folders, "--as", "{x}", "--once"), capture_output=True, text=True, timeout=60)
    assert wrong.returncode == 2
    assert "{title}, {hour} and {date}" in wrong.stderr
