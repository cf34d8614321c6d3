"""What a desk takes, checks in the background and answers. All of it stays in its folder, so that the desk can be
stopped at any time.
"""

import json
import logging
import shutil
import threading
import uuid
from collections.abc import Callable
from pathlib import Path
from typing import Any

PIECE_BYTES = 1 << 20
logger = logging.getLogger("nicelevel.desk")

Answer = dict[str, Any]
Check = Callable[[Path, Path, Callable[[float], None]], Answer]
"""Given what came, an empty folder to work in, and something to tell the progress: the answer."""


class Inbox:
    """A folder with what came and what was answered. file_name: what came is kept under it; desk: who answers."""

    def __init__(self, folder: Path, file_name: str, desk: str, check: Check) -> None:
        self._folder, self._file_name, self._desk, self._check_file = folder, file_name, desk, check
        self._progress: dict[str, float] = {}
        self._folder.mkdir(parents=True, exist_ok=True)
        for waiting in self._folder.glob(f"*/{file_name}"):
            self._begin(waiting.parent.name)

    def take(self, stream: Any) -> str:
        """Keep what comes and begin to check it; its receipt."""
        receipt = uuid.uuid4().hex
        place = self._folder / receipt
        place.mkdir()
        part = place / "coming.part"
        try:
            with part.open("xb") as file:
                while piece := stream.read(PIECE_BYTES):
                    file.write(piece)
            part.rename(place / self._file_name)
        except BaseException:
            shutil.rmtree(place, ignore_errors=True)
            raise
        self._begin(receipt)
        return receipt

    def answer(self, receipt: str) -> Answer | None:
        """What became of it; None where there is no such receipt."""
        place = self._folder / receipt
        if not receipt.isalnum() or not place.is_dir():
            return None
        kept = place / "answer.json"
        if kept.exists():
            found: Answer = json.loads(kept.read_text())
            return found
        return {"state": "checking", "progress": self._progress.get(receipt, 0.0)}

    def _begin(self, receipt: str) -> None:
        threading.Thread(target=self._check, args=(receipt,), daemon=True).start()

    def _check(self, receipt: str) -> None:
        place = self._folder / receipt
        room = place / "room"
        shutil.rmtree(room, ignore_errors=True)
        room.mkdir()
        try:
            answer = self._check_file(
                place / self._file_name, room, lambda ratio: self._progress.update({receipt: ratio})
            )
        except Exception:
            logger.exception("what came could not be checked")
            answer = {"state": "rejected", "reasons": ["The desk itself failed; its log says how."], "files": []}
        part = place / "answer.part"
        part.write_text(json.dumps(answer | {"desk": self._desk}, ensure_ascii=False, indent=1))
        part.rename(place / "answer.json")
        # The audio was looked at; a stand-in keeps none of it.
        (place / self._file_name).unlink()
        shutil.rmtree(room, ignore_errors=True)
        self._progress.pop(receipt, None)
