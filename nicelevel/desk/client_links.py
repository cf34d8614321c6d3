"""A handover as it is shown to a client by a signed link: some files as they were when it was made."""

import math
import secrets
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

from itsdangerous import BadSignature, URLSafeSerializer

from nicelevel.core.errors import NotFoundError, SpecError
from nicelevel.core.hear import matched_gains_db, real_gains_db
from nicelevel.core.signals import Seekable
from nicelevel.store.audio import AudioFolder
from nicelevel.store.client_links import add_answer, add_link, answers_of, find_link
from nicelevel.store.deliverables import KEPT_FILES, find_deliverable
from nicelevel.store.door_models import LONGEST_NAME, VERDICTS, ClientAnswer, ClientLink
from nicelevel.store.models import Deliverable

from .hearing import Audible, heard_made, heard_source
from .hearing import opened as heard_now
from .hearing_sheet import Heard, HearingSheet, playable_rate

SALT = "client-link"
SHORTEST_DAYS, LONGEST_DAYS = 1, 365
LONGEST_NOTE = 4000
ROLES = ("source", "made")

GONE = (
    "This link opens nothing (any more): it ran out, was withdrawn, or is not complete. "
    "Whoever gave it to you can give you another."
)


@dataclass(frozen=True)
class ShownFile:
    """A file behind a link. number: its place there; made: None where it was made anew since, or is gone."""

    number: int
    path: str
    title: str
    destination: str
    sha256: str
    made: Deliverable | None
    answers: tuple[ClientAnswer, ...]

    @property
    def verdict(self) -> str:
        """What was said last; empty where nothing was."""
        return str(self.answers[-1].verdict) if self.answers else ""

    @property
    def said(self) -> tuple[ClientAnswer, ...]:
        """What is worth reading of what was said: all but a plain last word, which stands in the list itself."""
        return tuple(each for each in self.answers if each.note or each is not self.answers[-1])

    @property
    def figures(self) -> dict[str, Any]:
        return (self.made.measured or {}) if self.made else {}


def make_link(
    job_id: int, client: str, days: int, may_fetch: bool, made: Sequence[Deliverable], paths: Sequence[str]
) -> ClientLink:
    """Raises SpecError where it would be for nobody, for no time, or for nothing."""
    client = " ".join(client.split())
    if not client or len(client) > LONGEST_NAME or not client.isprintable():
        raise SpecError("Say whom the link is for: the name stands in the journal.", "client")
    if not SHORTEST_DAYS <= days <= LONGEST_DAYS:
        raise SpecError(f"A link holds for {SHORTEST_DAYS} to {LONGEST_DAYS} days.", "days")
    if not made:
        raise SpecError("Nothing is proved yet, so there is nothing to show.", "client")
    files = [
        {
            "deliverable": each.id,
            "sha256": str(each.sha256),
            "path": path,
            "title": each.source.title,
            "destination": path.rpartition("/")[0],
        }
        for each, path in zip(made, paths, strict=True)
    ]
    expires_at = datetime.now(UTC) + timedelta(days=days)
    return add_link(job_id, client, files, may_fetch, expires_at, secrets.token_hex(16))


def signed(link: ClientLink, secret: str) -> str:
    """What is in the address."""
    return str(URLSafeSerializer(secret, salt=SALT).dumps([link.id, link.nonce]))


def opened(text: str, secret: str) -> ClientLink:
    """The link that is meant. Raises NotFoundError, the same for whatever is wrong with it."""
    try:
        number, nonce = URLSafeSerializer(secret, salt=SALT).loads(text)
    except (BadSignature, ValueError, TypeError) as error:
        raise NotFoundError(GONE) from error
    link = find_link(number) if isinstance(number, int) else None
    if link is None or link.nonce != nonce or not holds(link):
        raise NotFoundError(GONE)
    return link


def holds(link: ClientLink) -> bool:
    """Whether a link still shows something."""
    return link.withdrawn_at is None and link.expires_at > datetime.now(UTC) and link.job.trashed_at is None


def files_of(link: ClientLink) -> list[ShownFile]:
    answers = answers_of(link)
    return [_shown(number, told, answers.get(told["sha256"], [])) for number, told in enumerate(link.files, 1)]


def file_or_error(link: ClientLink, number: int) -> tuple[ShownFile, Deliverable]:
    """A file that is still as it was. Raises NotFoundError."""
    found = next((each for each in files_of(link) if each.number == number), None)
    if found is None or found.made is None:
        raise NotFoundError("This file was made anew since the link was given. Ask for another link.")
    return found, found.made


def _shown(number: int, told: dict[str, Any], answers: Sequence[ClientAnswer]) -> ShownFile:
    made = find_deliverable(told["deliverable"])
    is_same = made is not None and made.sha256 == told["sha256"] and made.state in KEPT_FILES
    names = told["path"], told["title"], told["destination"], told["sha256"]
    return ShownFile(number, *names, made if is_same else None, tuple(answers))


def say(link: ClientLink, number: int, verdict: str, note: str, from_s: str) -> ClientAnswer:
    """Keep what a client says of a file. Raises SpecError where a change is asked for and not which."""
    file, made = file_or_error(link, number)
    note = note.strip()
    if verdict not in VERDICTS:
        raise SpecError("A file is accepted, or a change is asked for.", "verdict")
    if verdict == "change" and not note:
        raise SpecError("Say what should be changed.", "note")
    if len(note) > LONGEST_NOTE:
        raise SpecError(f"A note has {LONGEST_NOTE} signs at most.", "note")
    if (verdict, note) == ("accepted", "") and file.verdict == "accepted":
        return file.answers[-1]  # a button is pressed twice sooner than once
    at_s = _time_in(from_s, float((made.measured or {}).get("duration_s", 0.0)))
    return add_answer(link, link.files[file.number - 1], verdict, note, at_s)


def _time_in(text: str, length_s: float) -> float | None:
    """Seconds from "1:02.5" or "62.5"; None from nothing."""
    if not text.strip():
        return None
    try:
        at_s = sum(float(each) * 60.0**place for place, each in enumerate(reversed(text.strip().split(":"))))
    except ValueError:
        at_s = math.nan
    if not 0.0 <= at_s <= length_s + 1.0:
        raise SpecError(f"{text} is no time in this file; write it as 1:02.5.", "from_s")
    return at_s


def client_sheet(link: ClientLink, number: int, address: str, audio: AudioFolder) -> HearingSheet:
    """What a page needs to play a file against the mix that it was made of. address: of the link."""
    _, made = file_or_error(link, number)
    takes = [_take(made, role, f"{address}/{number}/hear/{role}", audio) for role in ROLES]
    levels = [each.level for each in takes]
    heard = tuple(map(Heard, takes, matched_gains_db(levels), real_gains_db(levels)))
    longest_s = max(each.duration_s for each in takes)
    return HearingSheet(made, None, playable_rate(takes[-1].rate_hz), longest_s, heard, ())


def _take(made: Deliverable, role: str, address: str, audio: AudioFolder) -> Audible:
    if role == "source":
        return heard_source(made.source, "Mix", address, audio)
    return heard_made(made, "This file", address, audio)


@contextmanager
def opened_file(link: ClientLink, number: int, role: str, audio: AudioFolder, folder: Path) -> Iterator[Seekable]:
    """A file, or the mix that it was made of, open for hearing. folder: of deliverables. Raises NotFoundError."""
    _, made = file_or_error(link, number)
    key = f"source-{made.source_id}" if role == "source" else f"made-{made.id}"
    with heard_now(key, audio, folder) as programme:
        yield programme
