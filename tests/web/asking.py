"""Asking the application as its pages do."""

import time

LONGEST_S = 60.0


def once_counted(client, path):
    """A part of a page that counts over a whole job, asked for until it is there."""
    began_s = time.monotonic()
    while time.monotonic() - began_s < LONGEST_S:
        waited_ms = round(1000 * (time.monotonic() - began_s))
        answer = client.get(path, query_string={"waited_ms": waited_ms}, headers={"Accept": "text/html"})
        if answer.status_code != 202:
            return answer.text
        assert answer.data == b""
        time.sleep(0.05)
    raise AssertionError(f"{path} was not counted in {LONGEST_S} s")
