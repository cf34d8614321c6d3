"""A day of four lines in the application, by a clock that runs faster, in which winter time begins; the worker, the
web server and the database are killed again and again, and the disk is full for a while, twice.

Nothing that is published is ever half, nothing is lost, nothing is done twice, what fails is held with its reason.
NICE_LEVEL_DAY_S makes it longer, NICE_LEVEL_DAY_ARRIVALS fuller: `make soak` has 300 arrivals in ten minutes.
"""

import hashlib
import os
import random
import signal
import subprocess
import threading
import time
from contextlib import suppress
from datetime import datetime
from pathlib import Path
from zoneinfo import ZoneInfo

import pytest

from nicelevel.stand_ins.bulletin_sender.sender import FAULTS, send
from tests import signals
from tests.conftest import Live
from tests.faults.hands import Hands, descendants, mount_disk, tell, wait_for

DAY_S = float(os.environ.get("NICE_LEVEL_DAY_S", "75"))
ARRIVALS = int(os.environ.get("NICE_LEVEL_DAY_ARRIVALS", "72"))
KILLS = int(os.environ.get("NICE_LEVEL_DAY_KILLS", "8"))
FULL_S, LEFT_BYTES, DISK_MB = 6.0, 300_000, 900
ZONE, HOURS, SEED, LINES = "Europe/Berlin", 25, 5, 4
GOOD = frozenset({None, "twice", "late", "renamed"})
HELD = {"cut": "truncated", "silent": "cannot_meet", "text": "not_audio"}
SPEC = (
    '[spec]\nname = "Air"\n[loudness]\ntarget = -23.0\ntolerance = 0.5\n'
    '[[formats]]\ncontainer = "wav"\nencoding = "pcm_16"\n'
)
START_S = 15.0
"""What bringing it up may take before the day begins."""


@pytest.fixture
def day(tmp_path, monkeypatch):
    """Nice Level on a small disk of its own, on the day on which winter time begins (25 October 2026)."""
    disk = tmp_path / "disk"
    mount_disk(disk, f"size={DISK_MB}m")
    start = datetime(2026, 10, 25, tzinfo=ZoneInfo(ZONE)).timestamp()
    monkeypatch.setenv("TZ", ZONE)
    monkeypatch.setenv("NICE_LEVEL_ARRIVALS_CLOCK", f"{start - 1} {HOURS * 3_600 / DAY_S} {time.time() + START_S}")
    live = Live(disk)
    yield Hands(live)
    (disk / "ballast").unlink(missing_ok=True)
    live.stop()
    subprocess.run(["umount", "-l", disk], check=True)


def test_a_day_of_lines(day, tmp_path):
    disk, chance = tmp_path / "disk", random.Random(SEED)
    day.keep_spec(SPEC)
    for number in range(LINES):
        (disk / f"in{number}").mkdir()
        told = {
            "name": f"Line {number}",
            "folder": str(disk / f"in{number}"),
            "publish": str(disk / f"air{number}"),
            "spec": "air",
            "settle_s": "0.4",
            "late_after_s": "1800",
            "when_nothing": "show",
            "under": "on air" if number == 0 else "{title}",
            "expected": "0 * * * *" if number == 0 else "",
            "runs": "on",
        }
        assert day.post("/arrivals/lines/", data=told).status_code == 200
    asked, senders = _senders(chance, disk, tmp_path)
    for each in senders:
        each.start()
    seen, ending = set(), threading.Event()
    watching = threading.Thread(target=_watch, args=(disk, seen, ending))
    watching.start()
    begun_s = time.monotonic()
    kills = sorted(chance.uniform(4.0, DAY_S) for _ in range(KILLS))
    full, killed = [DAY_S * 0.3, DAY_S * 0.7], 0
    while time.monotonic() - begun_s < DAY_S + START_S:
        if kills and time.monotonic() - begun_s > kills[0]:
            kills.pop(0)
            killed += _kill(day, chance.choice(["worker", "web", "postgres"]))
        if full and time.monotonic() - begun_s > full[0]:
            full.pop(0)
            _fill(disk)
            time.sleep(FULL_S)
            (disk / "ballast").unlink()
        time.sleep(0.05)
    for each in senders:
        each.join()
    assert killed >= KILLS // 2  # what is being started again cannot be killed
    assert not full
    try:
        wait_for(lambda: _ended(day, len(asked)), 240.0)
    except AssertionError:
        rows = day.rows("SELECT line_id, name, state, error_code, told FROM arrival WHERE name <> '' ORDER BY name")
        raise AssertionError(f"{len(asked)} were sent; what came of them: {rows}; {day.live.log()[-3000:]}") from None
    ending.set()
    watching.join()
    columns = "line_id, name, state, error_code, told, figures->>'out_sha256'"
    rows = day.rows(f"SELECT {columns} FROM arrival WHERE name <> '' ORDER BY id")
    first = min(line for line, *_ in rows)
    ended, told = {}, {}
    for line, name, state, code, course, _ in rows:
        told.setdefault((line - first, name), []).append((state, code, course))
        if state not in ("gone", "same"):
            ended.setdefault((line - first, name), []).append((state, code))
    # Each once; what was sent twice is the same the second time, or was not taken before it was whole.
    wanted = {key: [("published", None) if fault in GOOD else ("held", HELD[fault])] for key, fault in asked.items()}
    wrong = {key for key in ended.keys() | wanted.keys() if ended.get(key) != wanted.get(key)}
    assert not wrong, {key: (asked.get(key), told.get(key)) for key in wrong}
    whole = {sha256 for *_, sha256 in rows if sha256}
    assert {sha256 for _, sha256 in seen} <= whole
    assert {name for name, _ in seen if name != "on air.wav"} == {
        f"{Path(name).stem}.wav" for (line, name), fault in asked.items() if fault in GOOD and line
    }
    assert all((disk / f"in{line}" / name).exists() for line, name in asked)
    _every_hour_is_accounted_for(day, first)


def _senders(chance, disk, tmp_path):
    """Timers that send, and by line and name which fault each has."""
    asked, senders = {}, []
    for number in range(ARRIVALS):
        path = signals.write(tmp_path / "x.wav", signals.noise(2 + number % 3, -30 - number % 7, seed=number))
        line, fault = number % LINES, chance.choice([None, None, None, *FAULTS])
        asked[line, f"b{number}.wav"] = fault
        when = START_S + chance.uniform(0.0, DAY_S * 0.85)
        arguments = path.read_bytes(), disk / f"in{line}", f"b{number}.wav", chance.uniform(0.2, 2.0), fault
        senders.append(threading.Timer(when, _send_through, arguments))
    return asked, senders


def _send_through(*arguments):
    """A supplier whose disk is full sends again."""
    while True:
        with suppress(OSError):
            send(*arguments)
            return
        time.sleep(1.0)


def _watch(disk, seen, ending):
    """Keep whatever stands under a published name at any moment: its name and its digest."""
    while not ending.is_set():
        with suppress(OSError):  # a file, or its folder, may be gone by the time that it is opened
            for path in disk.glob("air*/*.wav"):
                with suppress(OSError):
                    seen.add((path.name, hashlib.sha256(path.read_bytes()).hexdigest()))
        time.sleep(0.02)


def _kill(day, name):
    children = [pid for pid in descendants(day.live.pid) if pid != day.live.pid]
    named = [pid for pid in children if name in day.live.command_of(pid)]
    tell(named[:1], signal.SIGKILL)
    return len(named[:1])


def _fill(disk):
    with suppress(OSError), (disk / "ballast").open("wb") as file:
        usage = os.statvfs(disk)
        os.posix_fallocate(file.fileno(), 0, max(1, usage.f_bavail * usage.f_frsize - LEFT_BYTES))


def _ended(day, count):
    """Whether all that was sent has come to an end that stays."""
    rows = day.rows("SELECT state, error_code FROM arrival WHERE name <> ''")
    passing = ("no_space", "no_permission", "never_ended")
    ended = [code for state, code in rows if state in ("published", "held") and code not in passing]
    waiting = [state for state, _ in rows if state in ("whole", "working")]
    return len(ended) == count and not waiting


def _every_hour_is_accounted_for(day, line):
    """25 hours that day: for each something came or is said to be missing, and nothing twice."""
    rows = day.rows("SELECT expected_at FROM arrival WHERE line_id = %s AND expected_at IS NOT NULL", line)
    start = datetime(2026, 10, 25, tzinfo=ZoneInfo(ZONE)).timestamp()
    times = sorted((at.timestamp() - start) / 3_600 for (at,) in rows)
    of_the_day = [at for at in times if 0 <= at < HOURS]
    assert of_the_day == [float(hour) for hour in range(HOURS)]
