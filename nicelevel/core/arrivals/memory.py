"""What a line remembers, in a hidden folder inside the one it publishes into: whole after every end of a process."""

import fcntl
import glob
import json
import os
import secrets
import shutil
from contextlib import suppress
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from ..errors import NotFoundError, OutputExistsError
from ..files.staged import flush, speaking_errors
from ..scratch import being_made, is_gone
from .settling import Mark

HIDDEN, STATE, BEFORE = ".nice-level-line", "state.json", "before"
WORK = "work-"


@dataclass
class Remembered:
    """handled: by the name of an arrival its mark; published: by the name that was published the name and the SHA-256
    of the arrival that it came of; before: the same of what was published there before, which is kept; moving: what
    is being given its name, each temporary path with its name.
    """

    handled: dict[str, list[int]] = field(default_factory=dict)
    published: dict[str, dict[str, str]] = field(default_factory=dict)
    before: dict[str, dict[str, Any]] = field(default_factory=dict)
    moving: dict[str, Any] | None = None


class Memory:
    """Owned by one process at a time. Raises OutputExistsError where another one has it."""

    def __init__(self, publish: Path) -> None:
        self._publish, self.folder = publish, publish / HIDDEN
        with speaking_errors(self.folder):
            self.folder.mkdir(parents=True, exist_ok=True)
            self._held = os.open(self.folder, os.O_RDONLY)
        try:
            fcntl.flock(self._held, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except BlockingIOError as error:
            os.close(self._held)
            raise OutputExistsError(f"Another line publishes into {publish} at this moment.") from error
        except OSError:
            pass  # a file system without locks
        self.known = self._load()
        self._finish_moving()
        for left in self.folder.glob(f"{WORK}*"):
            shutil.rmtree(left, ignore_errors=True)

    def close(self) -> None:
        os.close(self._held)

    def _load(self) -> Remembered:
        with suppress(FileNotFoundError, ValueError, TypeError):
            return Remembered(**json.loads((self.folder / STATE).read_text()))
        return Remembered()

    def _save(self) -> None:
        part = self.folder / f"{STATE}.part"
        with speaking_errors(self.folder / STATE):
            part.write_text(json.dumps(vars(self.known), ensure_ascii=False))
            flush(part)
            os.replace(part, self.folder / STATE)
            flush(self.folder)

    def room(self) -> Path:
        """An empty folder to work in; gone with the process, however that ends."""
        path = self.folder / f"{WORK}{secrets.token_hex(6)}"
        with speaking_errors(path), being_made(path):
            path.mkdir()
        return path

    def leave(self, room: Path) -> None:
        shutil.rmtree(room, ignore_errors=True)
        is_gone(room)

    def was_handled(self, name: str, mark: Mark) -> bool:
        return self.known.handled.get(name) == list(mark)

    def is_published(self, target: str, name: str, sha256: str) -> bool:
        """Whether what stands under a name came of these contents under this name."""
        came_of = self.known.published.get(target) == {"of": name, "sha256": sha256}
        place = self._publish / target
        return came_of and any(place.parent.glob(f"{glob.escape(place.name)}.*"))

    def keep_handled(self, name: str, mark: Mark, folder: Path) -> None:
        """An arrival is done with. folder: that it came into; what is not there any more is forgotten."""
        kept = {each: told for each, told in self.known.handled.items() if (folder / each).exists()}
        self.known.handled = kept | {name: list(mark)}
        self._save()

    def can_put_back(self, target: str) -> bool:
        """Whether what was published under a name before is still there."""
        files = self.known.before.get(target, {}).get("files", ())
        return bool(files) and all((self.folder / BEFORE / each).is_file() for each in files)

    def put_back(self, target: str) -> list[Path]:
        """Publish once more what was there before; what is there now is the one before, then.

        Raises NotFoundError where there is none.
        """
        if not self.can_put_back(target):
            raise NotFoundError("There is no earlier version to put back.")
        told, room = self.known.before[target], self.room()
        try:
            files = {}
            for number, each in enumerate(told["files"]):
                copy = room / f"{number}{Path(each).suffix}"
                with speaking_errors(copy):
                    shutil.copyfile(self.folder / BEFORE / each, copy)
                files[copy] = each
            return self.publish(target, files, told["of"], None, told["sha256"])
        finally:
            self.leave(room)

    def publish(self, target: str, files: dict[Path, str], name: str, mark: Mark | None, sha256: str) -> list[Path]:
        """Give proved files their names, over what was there: all of them, whatever happens to the process.

        files: by the path of each the name that it gets; mark: None where no arrival is done with by that.
        """
        for path in files:
            flush(path)
        self.known.moving = {
            "files": {str(path.relative_to(self.folder)): final for path, final in files.items()},
            "target": target,
            "of": name,
            "sha256": sha256,
            "mark": mark and list(mark),
        }
        self._save()
        self._finish_moving()
        return [self._publish / final for final in files.values()]

    def _finish_moving(self) -> None:
        """What was written down is done, also by the process after the one that wrote it."""
        moving = self.known.moving
        if not moving:
            return
        target, kept = moving["target"], []
        for path, final in moving["files"].items():
            place = self._publish / final
            with speaking_errors(place), suppress(FileNotFoundError):
                place.parent.mkdir(parents=True, exist_ok=True)
                # What is done once more after a kill is no other version.
                is_other = self.known.published.get(target) != {"of": moving["of"], "sha256": moving["sha256"]}
                if is_other and (self.folder / path).exists() and place.exists():
                    self._keep_before(place, final)
                # Also what the process before this one had kept when it ended.
                if is_other and (self.folder / BEFORE / final).is_file():
                    kept.append(final)
                os.replace(self.folder / path, place)
                flush(place.parent)
        if kept and target in self.known.published:
            self.known.before[target] = self.known.published[target] | {"files": kept}
        self.known.published[target] = {"of": moving["of"], "sha256": moving["sha256"]}
        if moving["mark"]:
            self.known.handled[moving["of"]] = moving["mark"]
        self.known.moving = None
        self._save()

    def _keep_before(self, place: Path, final: str) -> None:
        """What stands under a name is kept beside, and stays there until another is put over it."""
        kept, part = self.folder / BEFORE / final, self.folder / f"{secrets.token_hex(6)}.part"
        kept.parent.mkdir(parents=True, exist_ok=True)
        try:
            try:
                os.link(place, part)
            except OSError:  # a file system without links
                shutil.copyfile(place, part)
            os.replace(part, kept)
        finally:
            part.unlink(missing_ok=True)


def has_before(publish: Path, target: str) -> bool:
    """Whether what was published under a name before is kept; told without owning the folder."""
    with suppress(OSError, ValueError, TypeError, KeyError):
        files = json.loads((publish / HIDDEN / STATE).read_text())["before"][target]["files"]
        return bool(files) and all((publish / HIDDEN / BEFORE / each).is_file() for each in files)
    return False
