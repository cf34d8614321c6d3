"""Talking to a receiver over HTTP: hand in a package, ask what became of it. The protocol is in docs/handover.md."""

from collections.abc import Callable, Iterable, Iterator
from typing import Any
from urllib.parse import urljoin, urlsplit

import requests

from nicelevel.core.errors import NiceLevelError

CONNECT_S, ANSWER_S = 5.0, 60.0
STATES = ("checking", "accepted", "rejected")


class ReceiverError(NiceLevelError):
    """The receiver cannot be reached, or says something that is no answer."""

    code = "receiver"


def checked_address(text: str) -> str:
    """An address as it is used. Raises ReceiverError where it is none."""
    address = text.strip()
    try:
        parts = urlsplit(address)
        is_one = parts.scheme in ("http", "https") and parts.hostname and parts.port != 0
    except ValueError:
        is_one = False
    if not is_one:
        raise ReceiverError(
            f"{address or 'Nothing'} is no address of a receiver; it begins with http:// or https://."
        )
    return address


def hand_in(address: str, body: Iterable[bytes], size_bytes: int, progress: Callable[[float], None]) -> str:
    """Send a package, piece by piece; the address where its answer will be.

    size_bytes: about how much it is, for the progress. Raises ReceiverError, and whatever `progress` raises.
    """
    headers = {"Content-Type": "application/zip"}
    answer = _ask("POST", address, data=_told(body, size_bytes, progress), headers=headers)
    receipt = answer.get("receipt")
    if not isinstance(receipt, str):
        raise ReceiverError(f"{_host(address)} took the package but gave no receipt.")
    where = urljoin(address, receipt)
    if urlsplit(where)[:2] != urlsplit(address)[:2]:
        raise ReceiverError(f"{_host(address)} wants its answer to be asked of another machine, {_host(where)}.")
    return where


def answer_of(receipt: str) -> dict[str, Any]:
    """What became of a package: `state` is one of STATES, with the keys of the protocol. Raises ReceiverError."""
    answer = _ask("GET", receipt)
    if answer.get("state") not in STATES:
        raise ReceiverError(f"{_host(receipt)} gave an answer that says neither accepted nor rejected.")
    return {
        "state": answer["state"],
        "progress": answer.get("progress"),
        "reasons": _sentences(answer.get("reasons")),
        "files": [_file(each) for each in _list(answer.get("files")) if isinstance(each, dict)],
    }


def _file(told: dict[str, Any]) -> dict[str, Any]:
    reasons, accepted = _sentences(told.get("reasons")), told.get("accepted") is True
    return {"path": str(told.get("path", "")), "accepted": accepted, "reasons": reasons}


def _sentences(told: Any) -> list[str]:
    return [str(each) for each in _list(told)]


def _list(told: Any) -> list[Any]:
    """What a receiver leaves out, or says in another form, is nothing said."""
    return told if isinstance(told, list) else []


def _told(body: Iterable[bytes], size_bytes: int, progress: Callable[[float], None]) -> Iterator[bytes]:
    sent = 0
    for piece in body:
        yield piece
        sent += len(piece)
        progress(min(1.0, sent / max(1, size_bytes)))


def _ask(method: str, address: str, **options: Any) -> dict[str, Any]:
    try:
        answer = requests.request(method, address, timeout=(CONNECT_S, ANSWER_S), allow_redirects=False, **options)
    except requests.Timeout as error:
        raise ReceiverError(f"{_host(address)} did not answer in time.") from error
    except requests.RequestException as error:
        raise ReceiverError(f"{_host(address)} cannot be reached, or broke off.") from error
    if answer.status_code not in (200, 201, 202):
        raise ReceiverError(f"{_host(address)} answered {answer.status_code} instead of taking it.{_said(answer)}")
    try:
        found = answer.json()
    except ValueError as error:
        raise ReceiverError(f"{_host(address)} gave an answer that is not JSON.") from error
    if not isinstance(found, dict):
        raise ReceiverError(f"{_host(address)} gave an answer that is no JSON object.")
    return found


def _said(answer: requests.Response) -> str:
    """A sentence that the receiver gave with its refusal."""
    try:
        message = answer.json().get("message")
    except (ValueError, AttributeError):
        return ""
    return f" It says: {message}" if isinstance(message, str) else ""


def _host(address: str) -> str:
    return urlsplit(address).netloc
