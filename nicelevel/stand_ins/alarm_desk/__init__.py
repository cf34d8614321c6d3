"""A stand-in for whoever is told when a line has something to tell: it keeps each sentence and shows them again."""

import json
import threading
from collections.abc import Mapping
from pathlib import Path
from typing import Any

NAME = "Alarm desk (stand-in)"
MOST_SHOWN = 500


class Alarms:
    """A file with a line of JSON for each alarm. May be used from many threads."""

    def __init__(self, folder: Path) -> None:
        folder.mkdir(parents=True, exist_ok=True)
        self._path, self._lock = folder / "alarms.jsonl", threading.Lock()

    def take(self, told: Any) -> str:
        """Keep one; what is wrong with it, empty where nothing is."""
        if not isinstance(told, Mapping) or not str(told.get("sentence", "")).strip():
            return "An alarm is a JSON object with a sentence."
        with self._lock, self._path.open("a") as file:
            file.write(json.dumps(told, ensure_ascii=False) + "\n")
        return ""

    def kept(self) -> list[Any]:
        """The latest, the newest last."""
        with self._lock:
            lines = self._path.read_text().splitlines() if self._path.exists() else []
        return [json.loads(line) for line in lines[-MOST_SHOWN:]]
