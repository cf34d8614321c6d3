"""Every setting, in one table: its name with unit, what it is without one, and what it does.

A setting is given in the environment as NICE_LEVEL_ and its name in capitals.
"""

import ipaddress
import os
import secrets
from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from pathlib import Path
from urllib.parse import parse_qsl, quote, urlencode, urlsplit, urlunsplit

from nicelevel.core.clock import clock_of
from nicelevel.core.errors import SpecError

PREFIX = "NICE_LEVEL_"
GIVEN = "NICE_LEVEL_GIVEN"
"""Between processes of ours: the settings that were given by whoever started it."""

LARGEST_PORT = 65535


@dataclass(frozen=True)
class Setting:
    name: str
    default: str
    help: str


SETTINGS = (
    Setting("data_folder", "data", "Folder of the database, the audio and the deliverables."),
    Setting("database_url", "", "PostgreSQL to use; empty: a cluster of our own inside the data folder."),
    Setting(
        "address", "127.0.0.1", "Address that the web application listens on; only loopback does without accounts."
    ),
    Setting("port", "8417", "Port of the web application; the next free one where it is taken."),
    Setting("hosts", "127.0.0.1 localhost", "Names that the web application answers to, with spaces between them."),
    Setting("accounts", "no", "Whether people sign in: yes or no. No is for one machine and its loopback alone."),
    Setting("proxies", "0", "How many proxies stand before it whose X-Forwarded headers are believed."),
    Setting("signed_in_hours", "12", "After so many hours in which nothing was done somebody is signed out."),
    Setting(
        "line_folders",
        "",
        "Folders that lines may read and write in, with : between them; empty: any without accounts, none with them.",
    ),
    Setting("object_storage", "", "Where files are kept for good, as s3://bucket/folder; empty: in the data folder."),
    Setting("object_storage_endpoint", "", "Address of an object storage of one's own; empty: the usual one."),
    Setting("cache_bytes", "107374182400", "With object storage, how large the files on one machine may become."),
    Setting("worker_jobs", "2", "Files that one worker measures or renders side by side, and one short one more."),
    Setting("worker_bytes", "0", "Memory that one worker may take; 0: half of the machine's."),
    Setting("desk_port", "8418", "Port of the receiving desk, a stand-in that ships with it; the next free one."),
    Setting("desk_address", "", "Where packages are sent unless another address is typed; empty: that desk."),
    Setting(
        "inner_receivers",
        "no",
        "Whether packages may be sent to inner networks and this machine, besides the desk: yes or no.",
    ),
    Setting("arrival_days", "14", "For so many days what came through a line is kept, to be heard and done again."),
    Setting(
        "arrivals_clock",
        "",
        "For a rehearsal: when a day begins and since when (seconds since 1970), its speed between; empty: real.",
    ),
    Setting("backup_folder", "", "Where backups are taken by themselves, best on another disk; empty: nowhere."),
    Setting("backup_hours", "24", "So many hours after the last backup the next one is taken."),
    Setting("backup_days", "30", "After so many days a backup is deleted; the last three stay."),
    Setting("logs", "words", "How logs are written, one line each: words, or json for programs."),
    Setting("demo", "yes", "Whether to make the demo job where there is no job: yes or no."),
    Setting("trash_days", "30", "After so many days what lies in the trash is deleted for good."),
    Setting("largest_upload_bytes", "34359738368", "Largest file that is taken in by the web application."),
)

_WHOLE_NUMBERS = (
    "trash_days",
    "port",
    "desk_port",
    "arrival_days",
    "largest_upload_bytes",
    "signed_in_hours",
    "backup_hours",
    "backup_days",
    "cache_bytes",
)


@dataclass(frozen=True)
class Config:
    """The settings as values."""

    data_folder: Path
    database_url: str
    address: str
    port: int
    hosts: tuple[str, ...]
    accounts: bool
    proxies: int
    signed_in_hours: int
    line_folders: tuple[str, ...]
    object_storage: str
    object_storage_endpoint: str
    cache_bytes: int
    worker_jobs: int
    worker_bytes: int
    desk_port: int
    desk_address: str
    inner_receivers: bool
    arrival_days: int
    arrivals_clock: str
    backup_folder: str
    backup_hours: int
    backup_days: int
    logs: str
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

    @property
    def arrivals_folder(self) -> Path:
        return self.data_folder / "arrivals"

    def environment(self) -> dict[str, str]:
        """The same settings as another process of ours is given them."""
        return {PREFIX + each.name.upper(): _text(each.name, getattr(self, each.name)) for each in SETTINGS}

    def may_be_inner(self, address: str) -> bool:
        """Whether a package may go to an address that is on an inner network: to the desk it always may."""
        own = (self.desk_address, self.contribution_address, self.alarm_address)
        return self.inner_receivers or (bool(address) and address in own)

    @property
    def line_bounds(self) -> tuple[Path, ...] | None:
        """Folders that lines stay inside; None where they may be anywhere that the server may."""
        if not self.accounts and not self.line_folders:
            return None
        return tuple(Path(each).resolve() for each in self.line_folders)

    @property
    def contribution_address(self) -> str:
        """Where contributions are sent unless another address is typed: beside the desk, if it takes them."""
        return self._beside_desk("contributions")

    @property
    def alarm_address(self) -> str:
        """Where lines tell what is wrong, unless they have another address: beside the desk too."""
        return self._beside_desk("alarms")

    def _beside_desk(self, name: str) -> str:
        start, packages, _ = self.desk_address.partition("/packages")
        return f"{start}/{name}" if packages else ""

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


def _text(name: str, value: object) -> str:
    """A value as it is given in the environment."""
    if isinstance(value, tuple):
        return (":" if name == "line_folders" else " ").join(value)
    return {True: "yes", False: "no"}[value] if isinstance(value, bool) else str(value)


def read_config(environment: Mapping[str, str] = os.environ) -> Config:
    """The settings of this environment. Raises SpecError naming the setting that makes no sense."""
    given = {setting.name: environment.get(PREFIX + setting.name.upper(), setting.default) for setting in SETTINGS}
    numbers = {name: _whole(name, given[name]) for name in _WHOLE_NUMBERS}
    for name in ("port", "desk_port"):
        if numbers[name] > LARGEST_PORT:
            raise SpecError(f"{PREFIX}{name.upper()}: {numbers[name]} is no port; the largest is {LARGEST_PORT}")
    clock_of(given["arrivals_clock"])
    folder = Path(given["data_folder"]).resolve()
    accounts, hosts = _yes("accounts", given["accounts"]), _hosts(given["hosts"])
    _refuse_open_door(given["address"], hosts, accounts)
    return Config(
        data_folder=folder,
        database_url=_patient(given["database_url"]),
        address=given["address"],
        hosts=hosts,
        accounts=accounts,
        object_storage=given["object_storage"],
        object_storage_endpoint=given["object_storage_endpoint"],
        proxies=_whole("proxies", given["proxies"], least=0),
        worker_jobs=_whole("worker_jobs", given["worker_jobs"]),
        worker_bytes=_whole("worker_bytes", given["worker_bytes"], least=0),
        line_folders=_folders(given["line_folders"]),
        desk_address=given["desk_address"],
        arrivals_clock=given["arrivals_clock"],
        inner_receivers=_yes("inner_receivers", given["inner_receivers"]),
        backup_folder=str(Path(given["backup_folder"]).resolve()) if given["backup_folder"] else "",
        logs=_one_of("logs", given["logs"], ("words", "json")),
        demo=_yes("demo", given["demo"]),
        **numbers,
    )


def _refuse_open_door(address: str, hosts: Iterable[str], accounts: bool) -> None:
    """Raises SpecError where somebody elsewhere could come in without an account."""
    if not is_loopback(address, or_name=False) and not accounts:
        raise SpecError(
            f"{PREFIX}ADDRESS: {address} can be reached from other machines, so people must sign in there: "
            f"set {PREFIX}ACCOUNTS=yes, and make an account with `nice-level user add`."
        )
    others = [each for each in hosts if not is_loopback(each)]
    if others and not accounts:
        raise SpecError(
            f"{PREFIX}HOSTS: {others[0]} is a name that other machines ask for, so people must sign in: "
            f"set {PREFIX}ACCOUNTS=yes, and make an account with `nice-level user add`."
        )


def is_loopback(host: str, or_name: bool = True) -> bool:
    """Whether an address (or one of the names of that) is this machine's own alone."""
    try:
        return ipaddress.ip_address(host.strip("[]")).is_loopback
    except ValueError:
        if or_name:
            return host == "localhost" or host.endswith(".localhost")
        raise SpecError(f"{PREFIX}ADDRESS: {host!r} is no address of a machine") from None


_PATIENCE = {
    "connect_timeout": "5",
    "keepalives_idle": "5",
    "keepalives_interval": "2",
    "keepalives_count": "3",
    "tcp_user_timeout": "10000",
}
"""After so long (seconds; the last milliseconds) a connection whose other end is gone without a word is given up: by
themselves systems wait for a quarter of an hour."""

_ITS_PATIENCE = " ".join(
    f"-c {name}={value}"
    for name, value in {
        "tcp_keepalives_idle": 5,
        "tcp_keepalives_interval": 2,
        "tcp_keepalives_count": 3,
        "tcp_user_timeout": 10_000,
        "idle_in_transaction_session_timeout": 600_000,
    }.items()
)
"""The same for the server's end: by itself it keeps a transaction whose client is gone, and its locks, for two hours.
A client that stands still inside a transaction, on a machine that still answers, is left ten minutes; our own longest
pause inside one, while thousands of plans are made, is half a minute."""


def _patient(database_url: str) -> str:
    """The address of a database with what it does not say itself of how long both ends wait for each other."""
    if "://" not in database_url:
        return database_url
    parts = urlsplit(database_url)
    given = dict(parse_qsl(parts.query))
    options = given.pop("options", "")
    if _ITS_PATIENCE not in options:
        options = f"{_ITS_PATIENCE} {options}".strip()  # of two that say the same the last one counts
    query = urlencode({**_PATIENCE, **given, "options": options}, quote_via=quote)
    return urlunsplit(parts._replace(query=query))


def _folders(text: str) -> tuple[str, ...]:
    folders = tuple(each for each in text.split(":") if each)
    for each in folders:
        if not Path(each).is_absolute():
            raise SpecError(f"{PREFIX}LINE_FOLDERS: {each!r} does not begin with /")
    return folders


def _hosts(text: str) -> tuple[str, ...]:
    if not text.split():
        raise SpecError(f"{PREFIX}HOSTS: no name is given, so no page could be asked for")
    return tuple(text.split())


def _one_of(name: str, text: str, choices: tuple[str, ...]) -> str:
    if text not in choices:
        raise SpecError(f"{PREFIX}{name.upper()}: {text!r} is none of {', '.join(choices)}")
    return text


def _yes(name: str, text: str) -> bool:
    if text not in ("yes", "no"):
        raise SpecError(f"{PREFIX}{name.upper()}: {text!r} is neither yes nor no")
    return text == "yes"


def _whole(name: str, text: str, least: int = 1) -> int:
    if not (text.isascii() and text.isdigit()) or int(text) < least:
        raise SpecError(f"{PREFIX}{name.upper()}: {text!r} is not a whole number above {least - 1}")
    return int(text)
