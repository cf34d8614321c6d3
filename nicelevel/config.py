"""Every setting, in one table: its name with unit, what it is without one, and what it does.

A setting is given in the environment as NICE_LEVEL_ and its name in capitals.
"""

import os
import secrets
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path

from nicelevel.core.errors import SpecError

PREFIX = "NICE_LEVEL_"
LARGEST_PORT = 65535


@dataclass(frozen=True)
class Setting:
    name: str
    default: str
    help: str


SETTINGS = (
    Setting("data_folder", "data", "Folder of the database, the audio and the deliverables."),
    Setting("database_url", "", "PostgreSQL to use; empty: a cluster of our own inside the data folder."),
    Setting("port", "8417", "Port of the web application on 127.0.0.1; the next free one where it is taken."),
    Setting("hosts", "127.0.0.1 localhost", "Names that the web application answers to, with spaces between them."),
    Setting("worker_jobs", "2", "Files that one worker measures or renders side by side."),
    Setting("desk_port", "8418", "Port of the receiving desk, a stand-in that ships with it; the next free one."),
    Setting("desk_address", "", "Where packages are sent unless another address is typed; empty: that desk."),
    Setting(
        "inner_receivers",
        "no",
        "Whether packages may be sent to inner networks and this machine, besides the desk: yes or no.",
    ),
    Setting("demo", "yes", "Whether to make the demo job where there is no job: yes or no."),
    Setting("trash_days", "30", "After so many days what lies in the trash is deleted for good."),
    Setting("largest_upload_bytes", "34359738368", "Largest file that is taken in by the web application."),
)

_WHOLE_NUMBERS = ("trash_days", "port", "worker_jobs", "desk_port", "largest_upload_bytes")


@dataclass(frozen=True)
class Config:
    """The settings as values."""

    data_folder: Path
    database_url: str
    port: int
    hosts: tuple[str, ...]
    worker_jobs: int
    desk_port: int
    desk_address: str
    inner_receivers: bool
    demo: bool
    trash_days: int
    largest_upload_bytes: int

    @property
    def audio_folder(self) -> Path:
        return self.data_folder / "audio"

    @property
    def deliverables_folder(self) -> Path:
        return self.data_folder / "deliverables"

    @property
    def desk_folder(self) -> Path:
        return self.data_folder / "receiving-desk"

    @property
    def uploads_folder(self) -> Path:
        return self.data_folder / "uploads"

    def environment(self) -> dict[str, str]:
        """The same settings as another process of ours is given them."""
        return {PREFIX + each.name.upper(): _text(getattr(self, each.name)) for each in SETTINGS}

    def may_be_inner(self, address: str) -> bool:
        """Whether a package may go to an address that is on an inner network: to the desk it always may."""
        return self.inner_receivers or bool(self.desk_address and address == self.desk_address)

    def secret(self, name: str) -> str:
        """A random secret that is made once and kept beside the data, readable by its owner alone."""
        path = self.data_folder / "secrets" / name
        if not path.exists() or not path.read_text():
            path.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
            # Whole or not at all: a start that is killed here must not leave an empty one.
            part = path.with_name(f".{name}.{secrets.token_hex(4)}")
            descriptor = os.open(part, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600)
            with os.fdopen(descriptor, "w") as file:
                file.write(secrets.token_hex(32))
            part.replace(path)
        return path.read_text()


def _text(value: object) -> str:
    """A value as it is given in the environment."""
    if isinstance(value, tuple):
        return " ".join(value)
    return {True: "yes", False: "no"}[value] if isinstance(value, bool) else str(value)


def read_config(environment: Mapping[str, str] = os.environ) -> Config:
    """The settings of this environment. Raises SpecError naming the setting that makes no sense."""
    given = {setting.name: environment.get(PREFIX + setting.name.upper(), setting.default) for setting in SETTINGS}
    numbers = {name: _whole(name, given[name]) for name in _WHOLE_NUMBERS}
    for name in ("port", "desk_port"):
        if numbers[name] > LARGEST_PORT:
            raise SpecError(f"{PREFIX}{name.upper()}: {numbers[name]} is no port; the largest is {LARGEST_PORT}")
    folder = Path(given["data_folder"]).resolve()
    return Config(
        data_folder=folder,
        database_url=given["database_url"],
        hosts=_hosts(given["hosts"]),
        desk_address=given["desk_address"],
        inner_receivers=_yes("inner_receivers", given["inner_receivers"]),
        demo=_yes("demo", given["demo"]),
        **numbers,
    )


def _hosts(text: str) -> tuple[str, ...]:
    if not text.split():
        raise SpecError(f"{PREFIX}HOSTS: no name is given, so no page could be asked for")
    return tuple(text.split())


def _yes(name: str, text: str) -> bool:
    if text not in ("yes", "no"):
        raise SpecError(f"{PREFIX}{name.upper()}: {text!r} is neither yes nor no")
    return text == "yes"


def _whole(name: str, text: str) -> int:
    if not text.isdigit() or int(text) == 0:
        raise SpecError(f"{PREFIX}{name.upper()}: {text!r} is not a whole number above 0")
    return int(text)
