"""Many pages, many stalled senders: whoever holds a connection holds nobody else up."""

import socket
import time
from contextlib import ExitStack
from urllib.parse import urlsplit

import pytest

from tests.faults.hands import wait_for


@pytest.fixture
def connect(live):
    with ExitStack() as stack:
        where = urlsplit(live.address)

        def begin(request: str) -> socket.socket:
            made = stack.enter_context(socket.create_connection((where.hostname, where.port), timeout=20))
            made.sendall(request.replace("HOST", where.netloc).encode())
            return made

        yield begin


def _answers(hands):
    for _ in range(5):
        assert hands.get("/runs").status_code == 200


def test_two_hundred_stalled_senders_keep_nobody_from_being_served(hands, connect):
    job = hands.new_job("Stalled", "podcast")
    for _ in range(150):
        head = f"POST /jobs/{job}/sources?name=a.wav HTTP/1.1\r\nHost: HOST\r\nContent-Length: 1000000\r\n\r\n"
        connect(head + "x" * 100)
    for _ in range(50):
        connect("GET /runs HTTP/1.1\r\nHost: HO")
    time.sleep(0.5)
    _answers(hands)


def test_a_hundred_pages_that_ask_what_changed_hold_nothing(hands, connect):
    pages = [connect("GET /changes HTTP/1.1\r\nHost: HOST\r\n\r\n") for _ in range(100)]
    for page in pages:
        assert b"200 OK" in page.recv(4096)
    _answers(hands)


def test_changes_come_once_and_in_their_order_and_nothing_is_missed(hands):
    version = wait_for(lambda: hands.get("/changes").json()["version"])
    job = hands.new_job("Changes", "podcast")
    hands.post(f"/jobs/{job}/sources?name=a.wav", data=b"no audio")
    told = wait_for(lambda: hands.get(f"/changes?since={version}").json()["changes"] or None)
    assert {"job": job} == {key: value for key, value in told[-1].items() if key == "job"}
    later = wait_for(lambda: hands.get(f"/changes?since={version}").json())
    again = hands.get(f"/changes?since={later['version']}").json()
    assert again["everything"] is False
    assert hands.get("/changes?since=nonsense").json()["everything"] is True
