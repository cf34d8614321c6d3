"""Commands that are ended in the middle, and two at once: real processes, nothing half, nobody's file another's."""

import hashlib
import json
import signal
import subprocess
import sys
import time

import pytest

from tests import signals

SPEC = """
spec.name = "Feed"
loudness = { target = -20.0, tolerance = 1.0 }
formats = [{ container = "m4a", encoding = "aac", bitrate_kbps = 128 }]
"""
COMMAND = [sys.executable, "-m", "nicelevel.cli.main"]


@pytest.fixture(scope="module")
def long_files(tmp_path_factory):
    folder = tmp_path_factory.mktemp("long")
    for number in range(3):
        signals.write(folder / f"take {number}.wav", signals.noise(60, seed=number))
    return sorted(folder.glob("*.wav"))


def _begin(files, out, *more):
    spec = out.parent / "feed.toml"
    spec.write_text(SPEC)
    command = [*COMMAND, "render", *map(str, files), "--spec", str(spec), "--out", str(out), "--json", *more]
    # What is ignored on purpose stays ignored: Ctrl-C in the background of a shell, a hung up terminal under nohup.
    return subprocess.Popen(command, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True, preexec_fn=_hear_all)


def _hear_all():
    signal.signal(signal.SIGINT, signal.default_int_handler)
    signal.signal(signal.SIGHUP, signal.SIG_DFL)


def _wait_for_part(folder):
    end = time.monotonic() + 60
    while time.monotonic() < end:
        if found := list(folder.glob(".*.part")):
            return found
        time.sleep(0.02)
    raise AssertionError("nothing was begun")


@pytest.mark.parametrize("number", [signal.SIGINT, signal.SIGTERM, signal.SIGHUP])
def test_a_command_that_is_stopped_ends_at_once_and_leaves_nothing_half(long_files, tmp_path, number):
    process = _begin(long_files, tmp_path / "out")
    _wait_for_part(tmp_path / "out")
    process.send_signal(number)
    out, err = process.communicate(timeout=20)
    assert process.returncode == 128 + number
    assert "stopped. 0 of 3 done; nothing half is left." in err
    assert "Traceback" not in err
    assert list((tmp_path / "out").iterdir()) == []
    assert out == ""


OPENING_ANEW = """
import signal, sys, threading
from pathlib import Path
from nicelevel.cli.batch import _ending_at_once
from nicelevel.core.files import StagedFile

def open_anew():
    while True:
        with staged.path.open("wb") as file:
            file.write(b"half")

staged = StagedFile(Path(sys.argv[1]) / "take.wav")
with _ending_at_once([], 1):
    for _ in range(4):
        threading.Thread(target=open_anew, daemon=True).start()
    print("begun", flush=True)
    threading.Event().wait()
"""


@pytest.mark.parametrize("chance", range(5))
def test_a_writer_that_opens_its_file_anew_as_the_command_ends_leaves_nothing(tmp_path, chance):
    """Encoders open by name: one did so between the removing and the end, in five of twelve tries."""
    with subprocess.Popen([sys.executable, "-c", OPENING_ANEW, str(tmp_path)], stdout=subprocess.PIPE) as process:
        assert process.stdout.readline() == b"begun\n"
        process.send_signal(signal.SIGTERM)
    assert process.returncode == 128 + signal.SIGTERM
    assert list(tmp_path.iterdir()) == []


TOLD_ELSEWHERE = """
import signal, threading, time
from nicelevel.cli.batch import ending_at_once

def told():
    time.sleep(0.2)
    signal.pthread_kill(threading.get_ident(), signal.SIGTERM)

with ending_at_once("So it is."):
    threading.Thread(target=told).start()
    threading.Event().wait()
"""


def test_a_signal_that_does_not_wake_the_main_thread_ends_the_command_too():
    """It came to another thread, or just before the waiting began; what Python runs in the main thread never ran."""
    ended = subprocess.run([sys.executable, "-c", TOLD_ELSEWHERE], capture_output=True, text=True, timeout=30)
    assert ended.returncode == 128 + signal.SIGTERM
    assert ended.stderr == "\nnice-level: stopped. So it is.\n"


@pytest.mark.parametrize("more", [(), ("--replace",)])
def test_of_two_commands_with_one_output_name_one_is_told(long_files, tmp_path, more):
    (tmp_path / "other").mkdir()
    other = tmp_path / "other" / long_files[0].name
    signals.write(other, signals.noise(60, seed=9))
    both = [_begin([path], tmp_path / "out", *more) for path in (long_files[0], other)]
    answers = [json.loads(process.communicate(timeout=120)[0]) for process in both]
    refused = [each["error"]["code"] for each in answers if "error" in each]
    (made,) = [each["outputs"][0] for each in answers if "outputs" in each]
    assert refused == ["output_exists"]
    (written,) = (tmp_path / "out").iterdir()
    assert hashlib.sha256(written.read_bytes()).hexdigest() == made["sha256"]
