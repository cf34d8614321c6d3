"""Talking to a receiver over HTTP: hand in a package, ask what became of it. The protocol is in docs/handover.md.

A receiver is a stranger: what it says is bounded in size and in time, and who it is, is looked at before anything is
said to it.
"""

import ipaddress
import json
import math
import re
import socket
import threading
import time
from collections.abc import Callable, Iterable, Iterator
from contextlib import contextmanager, suppress
from typing import Any
from urllib.parse import urljoin, urlsplit

import requests
from requests.adapters import HTTPAdapter
from urllib3 import HTTPConnectionPool, HTTPSConnectionPool, PoolManager
from urllib3.connection import HTTPConnection, HTTPSConnection
from urllib3.exceptions import HTTPError

from nicelevel.core.errors import NiceLevelError, StoppedError

CONNECT_S, STALLED_S, ANSWER_S = 5.0, 30.0, 30.0
"""To connect; for a receiver that takes nothing more of a package; for the whole of an answer."""

LOOK_EVERY_S = 0.5
LARGEST_ANSWER_BYTES = 4_000_000
LONGEST_SENTENCE, MOST_SENTENCES, MOST_FILES = 500, 20, 20_000
STATES = ("checking", "accepted", "rejected")

HIDDEN = "•••"


class ReceiverError(NiceLevelError):
    """The receiver cannot be reached, or says something that is no answer."""

    code = "receiver"


class Receiver:
    """One receiver, by its address.

    may_be_inner: whether it may be on an inner network or on this machine; is_wanted: asked twice a second, ends what
    is going on where it says no.
    """

    def __init__(self, address: str, may_be_inner: bool, is_wanted: Callable[[], bool] = lambda: True) -> None:
        self._address, self._is_wanted = address, is_wanted
        self._watched = _Watched(may_be_inner)

    def hand_in(
        self,
        body: Iterable[bytes],
        size_bytes: int,
        progress: Callable[[float], None],
        kind: str = "application/zip",
    ) -> str:
        """Send a package, piece by piece, or something of another kind; the address where its answer will be.

        size_bytes: about how much it is, for the progress. Raises ReceiverError, StoppedError, and whatever `body`
        and `progress` raise.
        """
        headers = {"Content-Type": kind}
        sent = threading.Event()
        told = _told(body, size_bytes, progress, sent)
        answer = self._ask("POST", self._address, sent, data=told, headers=headers)
        receipt = answer.get("receipt")
        if not isinstance(receipt, str):
            raise ReceiverError(f"{_host(self._address)} took the package but gave no receipt.")
        where = urljoin(self._address, clean(receipt))
        if urlsplit(where)[:2] != urlsplit(self._address)[:2]:
            other = _host(where)
            raise ReceiverError(f"{_host(self._address)} wants its answer to be asked of another machine, {other}.")
        return where

    def tell(self, told: dict[str, Any]) -> int:
        """Post a JSON object; the status that is answered, 200 to 299. Raises ReceiverError, StoppedError."""
        sent = threading.Event()
        sent.set()
        answer, said = self._answered("POST", self._address, sent, json=told)
        if not 200 <= answer.status_code < 300:
            raise ReceiverError(f"{_host(self._address)} answered {answer.status_code}.{_message(said)}")
        return int(answer.status_code)

    def answer_of(self, receipt: str) -> dict[str, Any]:
        """What became of a package: `state` is one of STATES, with the keys of the protocol. Raises ReceiverError."""
        sent = threading.Event()
        sent.set()
        answer = self._ask("GET", receipt, sent)
        if answer.get("state") not in STATES:
            raise ReceiverError(f"{_host(receipt)} gave an answer that says neither accepted nor rejected.")
        files = _list(answer.get("files"))[:MOST_FILES]
        return {
            "state": answer["state"],
            "progress": _ratio(answer.get("progress")),
            "reasons": _sentences(answer.get("reasons")),
            "files": [_file(each) for each in files if isinstance(each, dict)],
        }

    def _ask(self, method: str, address: str, sent: threading.Event, **options: Any) -> dict[str, Any]:
        """The JSON object that is answered; the clock for the answer runs from when all was sent."""
        answer, said = self._answered(method, address, sent, **options)
        if answer.status_code not in (200, 201, 202):
            said_there = _message(said)
            raise ReceiverError(f"{_host(address)} answered {answer.status_code} instead of taking it.{said_there}")
        found = _parsed(said)
        if found is None:
            raise ReceiverError(f"{_host(address)} gave an answer that is not JSON.")
        if not isinstance(found, dict):
            raise ReceiverError(f"{_host(address)} gave an answer that is no JSON object.")
        return found

    def _answered(
        self, method: str, address: str, sent: threading.Event, **options: Any
    ) -> tuple[requests.Response, bytes]:
        headers = {"Accept-Encoding": "identity", **options.pop("headers", {})}
        asking: dict[str, Any] = {"timeout": (CONNECT_S, STALLED_S), "allow_redirects": False, "stream": True}
        with _session(self._watched) as session, self._watching(sent) as ended:
            try:
                answer = session.request(method, address, headers=headers, **asking, **options)
                said = _read(answer)
            except (requests.RequestException, HTTPError, OSError) as error:
                raise ended.reason(error, _host(address), self._watched.refusal) from error
        return answer, said

    @contextmanager
    def _watching(self, sent: threading.Event) -> Iterator["_Ended"]:
        """Close the connection where the answer takes too long, or nobody wants it any more."""
        ended, over = _Ended(), threading.Event()

        def watch() -> None:
            sent_s: float | None = None
            while not over.wait(LOOK_EVERY_S):
                if sent.is_set() and sent_s is None:
                    sent_s = time.monotonic()
                ended.is_late = sent_s is not None and time.monotonic() - sent_s > ANSWER_S
                ended.is_unwanted = not ended.is_late and not self._is_wanted()
                if ended.is_late or ended.is_unwanted:
                    self._watched.close()
                    return

        threading.Thread(target=watch, daemon=True).start()
        try:
            yield ended
        finally:
            over.set()


class _Ended:
    """Why a connection was closed by us, if it was."""

    is_late = is_unwanted = False

    def reason(self, error: Exception, host: str, refusal: str) -> NiceLevelError:
        if self.is_unwanted:
            return StoppedError("Stopped.")
        if self.is_late or isinstance(error, requests.Timeout | TimeoutError):
            return ReceiverError(f"{host} did not answer in time.")
        return ReceiverError(f"{host} {refusal}" if refusal else f"{host} cannot be reached, or broke off.")


class _Watched:
    """The connection that is open: who is at its other end is checked, and it can be closed from outside."""

    def __init__(self, may_be_inner: bool) -> None:
        self._may_be_inner, self.refusal = may_be_inner, ""
        self._socket: socket.socket | None = None

    def connected(self, connection: HTTPConnection) -> None:
        """Raises OSError, before anything is said, where the other end is where packages may not go."""
        self._socket = connection.sock
        peer = ipaddress.ip_address(connection.sock.getpeername()[0].partition("%")[0])
        if not self._may_be_inner and not peer.is_global:
            self.refusal = (
                f"is {peer}, on an inner network or on this machine: packages go there only where the setting "
                "NICE_LEVEL_INNER_RECEIVERS says yes."
            )
            connection.close()
            raise OSError(self.refusal)

    def close(self) -> None:
        if self._socket:
            with suppress(OSError):
                self._socket.shutdown(socket.SHUT_RDWR)


@contextmanager
def _session(watched: _Watched) -> Iterator[requests.Session]:
    """A session whose connections are watched. Settings of the environment (proxies, passwords) are left alone."""

    class Plain(HTTPConnection):
        def connect(self) -> None:
            super().connect()
            watched.connected(self)

    class Secure(HTTPSConnection):
        def connect(self) -> None:
            super().connect()
            watched.connected(self)

    class PlainPool(HTTPConnectionPool):
        ConnectionCls = Plain

    class SecurePool(HTTPSConnectionPool):
        ConnectionCls = Secure

    class Adapter(HTTPAdapter):
        def init_poolmanager(self, *arguments: Any, **named: Any) -> None:
            self.poolmanager = PoolManager(1, maxsize=1, block=False)
            self.poolmanager.pool_classes_by_scheme = {"http": PlainPool, "https": SecurePool}

    with requests.Session() as session:
        session.trust_env = False
        session.mount("http://", Adapter())
        session.mount("https://", Adapter())
        yield session


def _read(answer: requests.Response) -> bytes:
    """The body of an answer as it comes. Raises ReceiverError where it is longer than an answer can be."""
    said = bytearray()
    while piece := answer.raw.read1(1 << 16):
        said += piece
        if len(said) > LARGEST_ANSWER_BYTES:
            raise ReceiverError(f"{_host(answer.url)} gave an answer that is longer than one can be.")
    return bytes(said)


def _parsed(said: bytes) -> Any:
    """None where it is not JSON."""
    try:
        return json.loads(said)
    except (ValueError, RecursionError):
        return None


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


def shown_address(address: str) -> str:
    """An address as people may see it: without the password in it."""
    parts = urlsplit(address)
    if not parts.password:
        return address
    return address.replace(f":{parts.password}@", f":{HIDDEN}@", 1)


def clean(text: str) -> str:
    """What a stranger said, as it can be kept and shown: whole signs that can be printed, and not too many."""
    whole = text[: 4 * LONGEST_SENTENCE].encode("utf-8", "replace").decode()
    return re.sub(r"[\x00-\x08\x0b-\x1f\x7f]", "", whole)[:LONGEST_SENTENCE]


def _file(told: dict[str, Any]) -> dict[str, Any]:
    reasons, accepted = _sentences(told.get("reasons")), told.get("accepted") is True
    return {"path": clean(str(told.get("path", ""))), "accepted": accepted, "reasons": reasons}


def _sentences(told: Any) -> list[str]:
    return [clean(str(each)) for each in _list(told)[:MOST_SENTENCES]]


def _list(told: Any) -> list[Any]:
    """What a receiver leaves out, or says in another form, is nothing said."""
    return told if isinstance(told, list) else []


def _ratio(told: Any) -> float:
    is_one = isinstance(told, int | float) and math.isfinite(told)
    return min(1.0, max(0.0, float(told))) if is_one else 0.0


def _told(
    body: Iterable[bytes], size_bytes: int, progress: Callable[[float], None], sent: threading.Event
) -> Iterator[bytes]:
    done_bytes = 0
    for piece in body:
        yield piece
        done_bytes += len(piece)
        progress(min(1.0, done_bytes / max(1, size_bytes)))
    sent.set()


def _message(said: bytes) -> str:
    """A sentence that the receiver gave with its refusal."""
    told = _parsed(said)
    message = told.get("message") if isinstance(told, dict) else None
    return f" It says: {clean(message)}" if isinstance(message, str) else ""


def _host(address: str) -> str:
    """The machine of an address, without a password."""
    return urlsplit(address).netloc.rpartition("@")[2]
