"""Nice Level from a program: take files into a job, wait until they have plans, render, fetch what was proved.

python -m docs.client http://127.0.0.1:8417 mix.wav stem.wav --spec podcast --out delivered

A token, where people sign in, is read from NICE_LEVEL_TOKEN. All addresses stand at /api of every Nice Level.
"""

import argparse
import hashlib
import os
import sys
import time
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import requests

LOOK_EVERY_S = 0.5
UNFINISHED = ("queued", "rendering")


class NiceLevel:
    """One Nice Level, by its address; a refusal is raised with the sentence that it gives."""

    def __init__(self, address: str, token: str = "") -> None:
        self._address = address.rstrip("/")
        self._session = requests.Session()
        self._session.headers["Accept"] = "application/json"
        if token:
            self._session.headers["Authorization"] = f"Bearer {token}"
        else:
            # At one machine nobody signs in; a change is then asked for with the token of a page.
            page = self._session.get(f"{self._address}/runs", headers={"Accept": "text/html"}, timeout=30).text
            self._session.headers["X-CSRFToken"] = page.partition('csrf-token" content="')[2].partition('"')[0]

    def ask(self, method: str, path: str, **more: Any) -> Any:
        """What is answered, as JSON."""
        answer = self._session.request(method, f"{self._address}{path}", timeout=600, **more)
        told = answer.json()
        if not answer.ok:
            raise SystemExit(told["error"]["message"])
        return told

    def make_job(self, title: str) -> int:
        return int(self.ask("POST", "/jobs", data={"title": title})["id"])

    def take_in(self, job: int, path: Path) -> int:
        """A file, as it lies there; the number of its source."""
        with path.open("rb") as file:
            return int(self.ask("POST", f"/jobs/{job}/sources", params={"name": path.name}, data=file)["source"])

    def board(self, job: int) -> dict[str, Any]:
        """Sources with their figures, and of each destination plan and deliverables."""
        board: dict[str, Any] = self.ask("GET", f"/jobs/{job}")
        return board

    def wait(self, job: int, goes_on: Callable[[dict[str, Any]], bool]) -> dict[str, Any]:
        """The board once nothing that is waited for goes on any more."""
        board = self.board(job)
        while goes_on(board):
            time.sleep(LOOK_EVERY_S)
            board = self.board(job)
        return board

    def fetch(self, deliverable: dict[str, Any], folder: Path) -> Path:
        """A proved file, under its own name, with the checksum that was proved."""
        path = folder / Path(deliverable["file_name"]).name
        with self._session.get(
            f"{self._address}/deliverables/{deliverable['id']}/file", stream=True, timeout=600
        ) as answer:
            answer.raise_for_status()
            path.write_bytes(answer.content)
        if hashlib.sha256(path.read_bytes()).hexdigest() != deliverable["sha256"]:
            raise SystemExit(f"{path.name} did not come whole.")
        return path


def deliverables_of(board: dict[str, Any]) -> Iterator[dict[str, Any]]:
    return (made for source in board["sources"] for place in source["places"] for made in place["deliverables"])


def is_planning(board: dict[str, Any]) -> bool:
    """Whether something is being measured, or prepared as a spec wants it: until then there is nothing to render."""
    return any(place["is_coming"] for source in board["sources"] for place in source["places"])


def main(words: list[str]) -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("address")
    parser.add_argument("files", nargs="+", type=Path)
    parser.add_argument("--spec", required=True)
    parser.add_argument("--out", required=True, type=Path)
    asked = parser.parse_args(words)
    there = NiceLevel(asked.address, os.environ.get("NICE_LEVEL_TOKEN", ""))
    job = there.make_job(f"{asked.files[0].stem} by a program")
    for destination in there.board(job)["destinations"]:
        there.ask("POST", f"/destinations/{destination['id']}/remove")
    there.ask("POST", f"/jobs/{job}/destinations", data={"slug": asked.spec}, allow_redirects=True)
    for path in asked.files:
        there.take_in(job, path)
    there.wait(job, is_planning)
    there.ask("POST", f"/jobs/{job}/render")
    board = there.wait(job, lambda board: any(made["state"] in UNFINISHED for made in deliverables_of(board)))
    asked.out.mkdir(parents=True, exist_ok=True)
    for made in deliverables_of(board):
        print(there.fetch(made, asked.out) if made["state"] == "proved" else made["error"] or made["state"])


if __name__ == "__main__":
    main(sys.argv[1:])
