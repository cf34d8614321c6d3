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
from tests.faults.hands import Hands, Paced, descendants, mount_disk, tell, wait_for

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
SETTLE_S = 0.4
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
            "settle_s": str(SETTLE_S),
            "late_after_s": "1800",
            "when_nothing": "show",
            "under": "on air" if number == 0 else "{title}",
            "expected": "0 * * * *" if number == 0 else "",
            "runs": "on",
        }
        assert day.post("/arrivals/lines/", data=told).status_code == 200
    asked, senders, stood_s = _senders(chance, disk, tmp_path)
    wanted = {key: ("published", None) if fault in GOOD else ("held", HELD[fault]) for key, fault in asked.items()}
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
        wait_for(lambda: _ended(day, wanted), 240.0)
    except AssertionError:
        found = _found(day)
        wrong = {key: (asked[key], found.get(key)) for key, end in wanted.items() if [end] != _ends(found.get(key))}
        raise AssertionError(f"of {len(asked)} that were sent: {wrong}; {day.live.log()[-3000:]}") from None
    ending.set()
    watching.join()
    found = _found(day)
    # Each once, but where this machine, or a full disk, kept the supplier from writing on for so long that it was
    # taken as it stood; what was sent twice is the same the second time, or was not taken before it was whole.
    more = {key for key, rows in found.items() if [wanted.get(key)] != _ends(rows)}
    assert {key: (asked.get(key), found[key]) for key in more if stood_s[key] < SETTLE_S} == {}
    whole = {sha256 for rows in found.values() for *_, sha256 in rows if sha256}
    assert {sha256 for _, sha256 in seen} <= whole
    assert {name for name, _ in seen if name != "on air.wav"} == {
        f"{Path(name).stem}.wav" for (line, name), fault in asked.items() if fault in GOOD and line
    }
    assert all((disk / f"in{line}" / name).exists() for line, name in asked)
    _every_hour_is_accounted_for(day)


def _senders(chance, disk, tmp_path):
    """By line and name which fault each has; timers that send; for how long the supplier of each stood still."""
    asked, senders, stood_s = {}, [], {}
    for number in range(ARRIVALS):
        path = signals.write(tmp_path / "x.wav", signals.noise(2 + number % 3, -30 - number % 7, seed=number))
        line, fault = number % LINES, chance.choice([None, None, None, *FAULTS])
        asked[line, f"b{number}.wav"] = fault
        when = START_S + chance.uniform(0.0, DAY_S * 0.85)
        arguments = path.read_bytes(), disk / f"in{line}", f"b{number}.wav", chance.uniform(0.2, 2.0), fault
        paced = Paced(stood_s, (line, f"b{number}.wav"), fault)
        senders.append(threading.Timer(when, _send_through, (*arguments, paced)))
    return asked, senders, stood_s


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


def _found(day):
    """By line and name what came of all that was taken under it, in its order: state, code, course, what was made."""
    columns = "line_id, name, state, error_code, told, figures->>'out_sha256'"
    rows = day.rows(f"SELECT {columns} FROM arrival WHERE name <> '' ORDER BY id")
    first, found = _first_line(day), {}
    for line, name, *told in rows:
        found.setdefault((line - first, name), []).append(tuple(told))
    return found


def _first_line(day):
    return day.rows("SELECT min(id) FROM line")[0][0]


def _ends(rows):
    """States and codes, without what came for nothing."""
    return [(state, code) for state, code, *_ in rows or () if state not in ("gone", "same")]


def _ended(day, wanted):
    """Whether all that was sent has come to the end that it should at last, and nothing is under way."""
    ends = {key: _ends(rows) for key, rows in _found(day).items()}
    waits = any(state in ("whole", "working") for states in ends.values() for state, _ in states)
    return not waits and all(ends.get(key, [None])[-1:] == [end] for key, end in wanted.items())


def _every_hour_is_accounted_for(day):
    """25 hours that day: for each something came or is said to be missing, and nothing twice."""
    expected = "SELECT expected_at FROM arrival WHERE line_id = %s AND expected_at IS NOT NULL"
    rows = day.rows(expected, _first_line(day))
    start = datetime(2026, 10, 25, tzinfo=ZoneInfo(ZONE)).timestamp()
    times = sorted((at.timestamp() - start) / 3_600 for (at,) in rows)
    of_the_day = [at for at in times if 0 <= at < HOURS]
    assert of_the_day == [float(hour) for hour in range(HOURS)]
