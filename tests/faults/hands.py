"""Hands on a running Nice Level: over HTTP as a browser, on its processes as an unlucky world."""

import hashlib
import io
import json
import math
import os
import re
import signal
import subprocess
import time
import zipfile
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import Any

import psycopg
import pytest
import requests

from tests.conftest import Live

PATIENCE_S = 120.0

FEED = """
spec.name = "Feed"
loudness = { target = -20.0, tolerance = 1.0 }
formats = [{ container = "m4a", encoding = "aac", bitrate_kbps = 128 }]
"""
"""Slow to write: there is time to get into its way."""


def wait_for(what: Callable[[], Any], seconds: float = PATIENCE_S, seen: Callable[[], str] = str) -> Any:
    """What is true at last. seen: what there was instead, told where it never is."""
    end = time.monotonic() + seconds
    while time.monotonic() < end:
        with suppress(requests.RequestException, psycopg.OperationalError, KeyError):
            if found := what():
                return found
        time.sleep(0.1)
    raise AssertionError(f"waited in vain for {what} {seen()}")


class Hands:
    """One person at one browser, who also has the machine."""

    def __init__(self, live: Live) -> None:
        self.live = live
        self.session = requests.Session()

    def get(self, path: str, **options: Any) -> requests.Response:
        return self.session.get(self.live.address + path.lstrip("/"), timeout=30, **options)

    def post(self, path: str, **options: Any) -> requests.Response:
        headers = {"X-CSRFToken": self._token(), "Accept": "application/json", **options.pop("headers", {})}
        return self.session.post(self.live.address + path.lstrip("/"), headers=headers, timeout=60, **options)

    def patch(self, path: str, **options: Any) -> requests.Response:
        headers = {"X-CSRFToken": self._token(), "Accept": "application/json", **options.pop("headers", {})}
        return self.session.patch(self.live.address + path.lstrip("/"), headers=headers, timeout=60, **options)

    def _token(self) -> str:
        found = re.search(r'name="csrf-token" content="([^"]+)"', self.get("/runs").text)
        assert found
        return found.group(1)

    def new_job(self, title: str, *slugs: str) -> int:
        """A job with these destinations alone."""
        job: int = self.post("/jobs", data={"title": title}).json()["id"]
        for (place,) in self.rows("SELECT id FROM destination WHERE job_id = %s", job):
            self.post(f"/destinations/{place}/remove", allow_redirects=False)
        for slug in slugs:
            self.post(f"/jobs/{job}/destinations", data={"slug": slug}, allow_redirects=False)
        return job

    def keep_spec(self, toml: str) -> str:
        name = re.sub(r"[^a-z]+", "-", re.search(r'name = "(.*?)"', toml).group(1).lower())  # type: ignore[union-attr]
        return str(self.post(f"/specs/import?name={name}.toml", data=toml.encode()).json()["slug"])

    def upload(self, job: int, path: Path) -> int:
        address = f"/jobs/{job}/sources?name={path.name}"
        return int(self.post(address, data=path.read_bytes()).json()["source"])

    def render(self, job: int) -> int:
        return int(self.post(f"/jobs/{job}/render").json()["queued"])

    def is_planned(self, job: int) -> bool:
        """Whether every source has a plan, or is known to have none, at every destination."""
        board = self.get(f"/jobs/{job}", headers={"Accept": "application/json"}).json()
        return not any(place["is_coming"] for source in board["sources"] for place in source["places"])

    def rows(self, query: str, *values: Any) -> list[tuple[Any, ...]]:
        with psycopg.connect(self.live.database_url(), connect_timeout=5) as connection:
            return connection.execute(query, values).fetchall()

    def source_state(self, source: int) -> tuple[str, str | None]:
        return self.rows("SELECT state, error_message FROM source WHERE id = %s", source)[0]  # type: ignore[return-value]

    def measured(self, source: int) -> None:
        wait_for(lambda: self.source_state(source)[0] == "measured")

    def states(self, job: int) -> list[str]:
        query = "SELECT d.state FROM deliverable d JOIN source s ON s.id = source_id WHERE job_id = %s ORDER BY d.id"
        return [state for (state,) in self.rows(query, job)]

    def all_proved(self, job: int) -> None:
        wait_for(lambda: set(self.states(job)) == {"proved"})

    def is_under_way(self, job: int) -> bool:
        query = (
            "SELECT 1 FROM deliverable d JOIN source s ON s.id = d.source_id "
            "WHERE s.job_id = %s AND d.state = 'rendering' AND d.progress_ratio > 0.1"
        )
        return bool(self.rows(query, job))

    def package(self, job: int) -> zipfile.ZipFile:
        return zipfile.ZipFile(io.BytesIO(self.get(f"/jobs/{job}/package.zip").content))

    def check_package(self, job: int, count: int) -> None:
        """Every file of a package is the one that its manifest and its row say."""
        package = self.package(job)
        listed = json.loads(package.read("manifest.json"))["files"]
        assert len(listed) == count
        for file in listed:
            inside = package.read(file["path"])
            assert hashlib.sha256(inside).hexdigest() == file["sha256"]
            assert len(inside) == file["size_bytes"]

    def written_files(self) -> list[Path]:
        """Everything that lies among the deliverables."""
        return [path for path in (self.live.data_folder / "deliverables").rglob("*") if path.is_file()]

    def unfinished_files(self) -> list[Path]:
        """Whatever is temporary in the data folder."""
        folder = self.live.data_folder
        kept = [folder / "audio", folder / "deliverables", folder / "uploads"]
        return [path for each in kept for path in each.rglob("*") if re.search(r"\.part$|^\.making-", path.name)]


def descendants(pid: int) -> list[int]:
    """A process and all that it began, and they."""
    found = [pid]
    for task in Path(f"/proc/{pid}/task").glob("*/children"):
        with suppress(OSError):
            for child in task.read_text().split():
                found += descendants(int(child))
    return found


def mount_disk(folder: Path, options: str) -> None:
    """A small disk in memory; the test is left out where nobody may mount one."""
    folder.mkdir()
    done = subprocess.run(["mount", "-t", "tmpfs", "-o", options, "tmpfs", str(folder)], capture_output=True)
    if done.returncode:
        pytest.skip("no disk can be mounted here")


def tell(pids: list[int], number: signal.Signals) -> None:
    """A signal to each; what has ended meanwhile, as its parent did, is left alone."""
    for pid in pids:
        with suppress(ProcessLookupError):
            os.kill(pid, number)


@contextmanager
def standing_still(pids: list[int]) -> Iterator[None]:
    """SIGSTOP, and SIGCONT however it ends: a lid that is closed and opened."""
    tell(pids, signal.SIGSTOP)
    try:
        yield
    finally:
        tell(pids, signal.SIGCONT)


def stand_still(pids: list[int], seconds: float) -> None:
    with standing_still(pids):
        time.sleep(seconds)


def command_of(pid: int) -> str:
    with suppress(OSError):
        return Path(f"/proc/{pid}/cmdline").read_bytes().replace(b"\0", b" ").decode(errors="replace")
    return ""


def alive(pid: int) -> bool:
    with suppress(OSError):
        return Path(f"/proc/{pid}/stat").read_text().rpartition(")")[2].split()[0] != "Z"
    return False


class Paced:
    """Sleeps for a supplier, and keeps by its key for how long nothing was written at most, once it had begun."""

    def __init__(self, stood_s: dict[Any, float], key: Any, fault: str | None) -> None:
        self._stood_s, self._key, self._wrote_s, self._is_waiting = stood_s, key, math.inf, fault == "late"
        stood_s[key] = 0.0

    def __call__(self, seconds: float) -> None:
        if not self._is_waiting:
            self._stood_s[self._key] = max(self._stood_s[self._key], time.monotonic() - self._wrote_s)
            self._wrote_s = time.monotonic()
        self._is_waiting = False
        time.sleep(seconds)
