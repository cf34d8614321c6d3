"""A soak: random work on a running Nice Level while the world around it fails at random moments, all from one seed.

`python -m tests.faults.soak --minutes 20 --seed 7` (`make soak`). Afterwards everything that is called proved is the
whole file that was proved, nothing is under way that is not, nothing temporary is left, and all can be worked on.
"""

import argparse
import hashlib
import os
import random
import signal
import subprocess
import sys
import tempfile
import threading
import time
from collections import Counter
from contextlib import suppress
from pathlib import Path
from typing import Any

import psycopg
import requests

from nicelevel.work.app import STALLED_S
from tests import signals
from tests.conftest import Live
from tests.faults.hands import FEED, Hands, command_of, descendants, stand_still, tell, wait_for

MOMENTS_A_MINUTE = 5
DISK_MB = 1500
QUIET_S = 240.0

EITHER = (requests.RequestException, psycopg.Error, AssertionError, KeyError, ValueError, OSError)
"""What may be answered while things fail."""


class Soak:
    """Work and faults over one Nice Level; what was done is counted."""

    def __init__(self, live: Live, seed: int, folder: Path) -> None:
        self.live, self.hands = live, Hands(live)
        self.chance, self.done = random.Random(seed), Counter[str]()
        self.hands.keep_spec(FEED)
        self.jobs = [self.hands.new_job(f"Soak {n}", "podcast", "feed", "compact-disc") for n in range(3)]
        self.jobs.append(self.hands.post("/voice", data={"title": "Soak, voices"}).json()["id"])
        rule = {"channels": "one", "recipe": "news-from-outside", "renders": "on"}
        assert self.hands.post(f"/jobs/{self.jobs[0]}/rules/", data=rule).status_code == 200
        self.files = _files(folder)
        self.stills: list[threading.Thread] = []
        self.left_behind: list[list[str]] = []

    def run(self, minutes: float) -> None:
        """Work until the time is over, with a fault at each of the moments that the seed has drawn."""
        length_s = 60.0 * minutes
        moments = sorted(self.chance.uniform(0.0, length_s) for _ in range(max(1, round(MOMENTS_A_MINUTE * minutes))))
        begun_s = time.monotonic()
        while (now_s := time.monotonic() - begun_s) < length_s:
            if moments and now_s >= moments[0]:
                moments.pop(0)
                self._once(self.chance.choice(FAULTS))
            else:
                self._once(self.chance.choices(*zip(*WORK.items(), strict=True))[0])
            time.sleep(self.chance.uniform(0.05, 0.6))
        for still in self.stills:
            still.join()

    def _once(self, name: str) -> None:
        try:
            getattr(self, name)()
            self.done[name] += 1
        except EITHER:
            self.done[f"{name}, in vain"] += 1

    # Work

    def upload(self) -> None:
        self.hands.upload(self.chance.choice(self.jobs), self.chance.choice(self.files))

    def upload_in_pieces(self) -> None:
        path = self.chance.choice(self.files)
        data, job = path.read_bytes(), self.chance.choice(self.jobs)
        begun = self.hands.post(f"/jobs/{job}/uploads", headers={"Upload-Length": str(len(data))})
        address, at = begun.headers["Location"], 0
        while at < len(data):
            headers = {"Upload-Offset": str(at), "Content-Type": "application/offset+octet-stream"}
            piece = data[at : at + 300_000]
            at = int(self.hands.patch(address, data=piece, headers=headers).headers["Upload-Offset"])

    def render(self) -> None:
        self.hands.render(self.chance.choice(self.jobs))

    def prepare(self) -> None:
        """A recipe for two sources, or none any more."""
        job, recipe = self.chance.choice(self.jobs), self.chance.choice(("", *RECIPES))
        rows = self.hands.rows("SELECT id FROM source WHERE job_id = %s ORDER BY random() LIMIT 2", job)
        self.hands.post(f"/jobs/{job}/prepare", data={"recipe": recipe, "source": [key for (key,) in rows]})

    def mend(self) -> None:
        job = self.chance.choice(self.jobs)
        rows = self.hands.rows("SELECT id FROM source WHERE job_id = %s", job)
        self.hands.post(f"/jobs/{job}/mend", data={"source": [key for (key,) in rows]})

    def take_back(self) -> None:
        self.hands.post(f"/jobs/{self.chance.choice(self.jobs)}/undo")

    def stop(self) -> None:
        self.hands.post(f"/jobs/{self.chance.choice(self.jobs)}/stop")

    def change_spec(self) -> None:
        target = self.chance.choice((-20.0, -21.0, -19.0))
        fields = {"spec.name": "Feed", "loudness.target": str(target), "loudness.tolerance": "1.0"}
        form = {"formats.0.container": "m4a", "formats.0.encoding": "aac", "formats.0.bitrate_kbps": "128"}
        self.hands.post("/specs/feed/keep", data={**fields, **form})

    def pack(self) -> None:
        self.hands.get(f"/jobs/{self.chance.choice(self.jobs)}/package.zip")

    def look(self) -> None:
        self.hands.get(f"/jobs/{self.chance.choice(self.jobs)}/parts")

    def take_out(self) -> None:
        rows = self.hands.rows("SELECT id FROM source ORDER BY random() LIMIT 1")
        if rows and self.hands.rows("SELECT count(*) FROM source")[0][0] > 12:
            self.hands.post(f"/sources/{rows[0][0]}/remove")

    # Faults

    def _part(self, *words: str) -> list[int]:
        return [pid for pid in descendants(self.live.pid) if any(word in command_of(pid) for word in words)]

    def _kill(self, *words: str) -> None:
        tell(self._part(*words)[:1], signal.SIGKILL)

    def kill_worker(self) -> None:
        self._kill("cli.main worker")

    def kill_web(self) -> None:
        self._kill("cli.main web")

    def kill_a_try(self) -> None:
        self._kill("try-task")

    def kill_backend(self) -> None:
        self._kill("nice_level nice_level")

    def kill_postmaster(self) -> None:
        self._kill("bin/postgres -D")

    def restart_database(self) -> None:
        tell(self._part("bin/postgres -D")[:1], signal.SIGINT)

    def close_the_lid(self) -> None:
        self._stand_still(descendants(self.live.pid))

    def still_worker(self) -> None:
        self._stand_still(self._part("cli.main worker"))

    def still_web(self) -> None:
        self._stand_still(self._part("cli.main web"))

    def _stand_still(self, pids: list[int]) -> None:
        seconds = self.chance.uniform(1.0, STALLED_S + 5.0)
        still = threading.Thread(target=stand_still, args=(pids, seconds))
        still.start()
        self.stills.append(still)

    def kill_supervisor(self) -> None:
        for still in self.stills:
            still.join()
        begun = descendants(self.live.pid)
        self.live.kill()
        try:
            wait_for(lambda: not any(command_of(pid) for pid in begun), 20)
        except AssertionError:
            self.left_behind.append([command_of(pid) for pid in begun])
        self.live.start()
        self.hands = Hands(self.live)

    def fill_disk(self) -> None:
        ballast = self.live.data_folder / "ballast"
        usage = os.statvfs(self.live.data_folder)
        if usage.f_bavail * usage.f_frsize > 3 * DISK_MB * 1_000_000:
            return  # not on a disk of its own
        with ballast.open("wb") as file, suppress(OSError):
            os.posix_fallocate(file.fileno(), 0, max(1, usage.f_bavail * usage.f_frsize - 50_000))
        timer = threading.Timer(self.chance.uniform(2.0, 6.0), lambda: ballast.unlink(missing_ok=True))
        timer.start()
        self.stills.append(timer)

    # What must hold

    def check(self) -> dict[str, Any]:
        """Wait until all is quiet, begin once more, and hold everything against its promises."""
        assert self.left_behind == []
        wait_for(lambda: self.hands.get("/").status_code == 200, QUIET_S)
        wait_for(self._is_quiet, QUIET_S)
        proved = self._proved_are_whole()
        assert self.live.stop() == 0
        self.live.start()
        self.hands = Hands(self.live)
        wait_for(self._is_quiet, QUIET_S)
        assert self.hands.unfinished_files() == []
        assert self._proved_are_whole() <= proved
        self._all_can_be_worked_on()
        environment = {**os.environ, "NICE_LEVEL_DATA_FOLDER": str(self.live.data_folder)}
        command = [sys.executable, "-m", "nicelevel.cli.main", "verify"]
        verified = subprocess.run(command, env=environment, capture_output=True, text=True)
        assert verified.returncode == 0, verified.stdout
        return {"proved": proved, **self.done}

    def _is_quiet(self) -> bool:
        under_way = (
            "SELECT (SELECT count(*) FROM source WHERE state IN ('queued', 'measuring'))"
            " + (SELECT count(*) FROM deliverable WHERE state IN ('queued', 'rendering'))"
            " + (SELECT count(*) FROM preparing WHERE state = 'queued')"
            " + (SELECT count(*) FROM procrastinate_jobs WHERE status IN ('todo', 'doing') AND task_name ~ 'rule$')"
        )
        return bool(self.hands.rows(under_way)[0][0] == 0)

    def _proved_are_whole(self) -> int:
        rows = self.hands.rows(
            "SELECT id, token, file_name, sha256, size_bytes FROM deliverable WHERE state IN ('proved', 'missed')"
        )
        for key, token, name, sha256, size_bytes in rows:
            path = self.live.data_folder / "deliverables" / str(key) / str(token) / Path(name).name
            data = path.read_bytes()
            assert (hashlib.sha256(data).hexdigest(), len(data)) == (sha256, size_bytes), path
        return len(rows)

    def _all_can_be_worked_on(self) -> None:
        for source, _ in self.hands.rows("SELECT id, state FROM source WHERE state = 'failed'"):
            self.hands.post(f"/sources/{source}/again")
        for (digest_source,) in self.hands.rows(
            "SELECT min(s.id) FROM preparing p JOIN source s ON s.digest = p.source_digest"
            " WHERE p.state = 'failed' GROUP BY p.source_digest"
        ):
            self.hands.post(f"/sources/{digest_source}/again")
        wait_for(self._is_quiet, QUIET_S)
        assert self.hands.rows("SELECT file_name, error_message FROM source WHERE state <> 'measured'") == []
        for job in self.jobs:
            self.hands.render(job)
        wait_for(self._is_quiet, QUIET_S)
        failed = self.hands.rows("SELECT error_code, error_message FROM deliverable WHERE state = 'failed'")
        assert failed == []
        self._proved_are_whole()


WORK = {
    "upload": 4,
    "upload_in_pieces": 3,
    "render": 4,
    "prepare": 4,
    "mend": 1,
    "take_back": 1,
    "stop": 1,
    "change_spec": 1,
    "pack": 1,
    "look": 4,
    "take_out": 2,
}
"""How often each is done, against the others."""

RECIPES = ("clean-head", "even-out-speech", "news-from-outside", "voice-for-a-machine", "louder-softly")

FAULTS = [
    "kill_worker",
    "kill_web",
    "kill_a_try",
    "kill_backend",
    "kill_postmaster",
    "restart_database",
    "close_the_lid",
    "still_worker",
    "still_web",
    "kill_supervisor",
    "fill_disk",
]


def _files(folder: Path) -> list[Path]:
    """Short and longer ones, of more than one rate, all different."""
    made = []
    for number, seconds in enumerate((2, 3, 5, 8, 20, 45)):
        rate_hz = (48_000, 44_100)[number % 2]
        made.append(signals.write(folder / f"take {number}.wav", signals.noise(seconds, seed=number), rate=rate_hz))
    return made


def soak(minutes: float, seed: int, folder: Path) -> dict[str, Any]:
    """Run one on a small disk of its own where we may mount one; what was done, counted."""
    place = folder / "disk"
    place.mkdir()
    mount = ["mount", "-t", "tmpfs", "-o", f"size={DISK_MB}m", "tmpfs", str(place)]
    is_mounted = subprocess.run(mount, capture_output=True).returncode == 0
    live = Live(place)
    try:
        running = Soak(live, seed, folder)
        running.run(minutes)
        return running.check()
    except BaseException:
        print(live.log()[-20_000:], file=sys.stderr)
        raise
    finally:
        tell(descendants(live.pid), signal.SIGCONT)
        live.stop()
        if is_mounted:
            subprocess.run(["umount", "-l", str(place)], check=True)


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--minutes", type=float, default=20.0)
    parser.add_argument("--seed", type=int, default=random.SystemRandom().randrange(1_000_000))
    asked = parser.parse_args()
    print(f"Seed {asked.seed}")
    with tempfile.TemporaryDirectory() as folder:
        for name, count in sorted(soak(asked.minutes, asked.seed, Path(folder)).items()):
            print(f"{count:6d}  {name}")


if __name__ == "__main__":
    main()
