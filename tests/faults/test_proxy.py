"""TLS by Debian's nginx, with the very file that docs/doors.md gives."""

import os
import re
import socket
import ssl
import subprocess
import sys
import urllib.parse
from contextlib import contextmanager
from http.client import HTTPSConnection
from pathlib import Path

import pytest

from nicelevel.run.cluster import free_port
from tests.conftest import Live, wait_for_port
from tests.faults.hands import wait_for
from tests.web.signing_in import PASSWORD

HOST = "levels.studio.example"
MANUALS = Path(__file__).parents[2] / "docs"


@pytest.fixture(scope="module")
def live(tmp_path_factory):
    """Nice Level with accounts."""
    folder = tmp_path_factory.mktemp("proxied")
    running = Live(folder, settings={"ACCOUNTS": "yes", "HOSTS": f"{HOST} 127.0.0.1", "PROXIES": "1"})
    running.command(["user", "add", "One", "--role", "engineer", "--password-stdin"], PASSWORD)
    yield running
    running.stop()


@pytest.fixture(scope="module")
def behind(live, tmp_path_factory):
    """The same behind nginx; where that listens, and its certificate."""
    with _proxy(tmp_path_factory.mktemp("proxy"), live.address.rstrip("/")) as place:
        yield place


@contextmanager
def _proxy(folder, to, before=""):
    """nginx with the file of docs/doors.md, passing on to an address. before: what stands before its server."""
    port = free_port()
    key, certificate = folder / "levels.key", folder / "levels.pem"
    made = ["openssl", "req", "-x509", "-newkey", "rsa:2048", "-nodes", "-days", "2", "-subj", f"/CN={HOST}"]
    made += ["-addext", f"subjectAltName=DNS:{HOST}", "-keyout", str(key), "-out", str(certificate)]
    subprocess.run(made, check=True, capture_output=True)
    server = _of_manual("doors")
    for told, here in (
        ("listen 443 ssl", f"listen 127.0.0.1:{port} ssl"),
        ("/etc/ssl/levels.pem", str(certificate)),
        ("/etc/ssl/levels.key", str(key)),
        ("http://127.0.0.1:8417", to),
    ):
        assert told in server
        server = server.replace(told, here)
    aside = ("client_body", "proxy", "fastcgi", "uwsgi", "scgi")
    kept = "".join(f"{name}_temp_path {folder}/{name};" for name in aside)
    config = folder / "nginx.conf"
    config.write_text(
        f"daemon off; pid {folder}/pid; error_log {folder}/error.log; worker_processes 1;\n"
        f"events {{}}\nhttp {{ access_log off; {kept}\n{before}\n{server}\n}}\n"
    )
    proxy = subprocess.Popen(["nginx", "-c", str(config)], stderr=subprocess.DEVNULL)
    wait_for_port(port)
    yield port, certificate
    proxy.terminate()
    proxy.wait(20)


def _of_manual(page):
    return re.search(r"```nginx\n(.*?)```", (MANUALS / f"{page}.md").read_text(), re.DOTALL).group(1)


class Visit:
    """Somebody who comes over TLS; cookies are kept as a browser does."""

    def __init__(self, behind):
        self._port, certificate = behind
        self._context = ssl.create_default_context(cafile=certificate)
        self.cookies = {}

    def ask(self, method, path, fields=None, **headers):
        # The name is checked against the certificate, the way leads to this machine.
        connection = HTTPSConnection(HOST, self._port, context=self._context, timeout=30)
        connection._create_connection = lambda _, *rest, **more: _connected(self._port)
        cookie = "; ".join(f"{name}={value}" for name, value in self.cookies.items())
        body = urllib.parse.urlencode(fields) if fields else None
        told = {"Cookie": cookie, "Content-Type": "application/x-www-form-urlencoded", "Host": HOST, **headers}
        connection.request(method, path, body, told)
        answer = connection.getresponse()
        answer.text = answer.read().decode(errors="replace")
        for each in answer.headers.get_all("Set-Cookie") or ():
            name, _, value = each.partition(";")[0].partition("=")
            self.cookies[name] = value
        return answer

    def sign_in(self):
        door = self.ask("GET", "/sign-in")
        assert door.status == 200
        token = re.search(r'csrf_token" value="([^"]+)"', door.text).group(1)
        fields = {"csrf_token": token, "name": "One", "password": PASSWORD}
        answer = self.ask("POST", "/sign-in", fields, Origin=f"https://{HOST}")
        assert (answer.status, answer.headers["Location"]) == (302, "/")
        return door


def _connected(port):
    return socket.create_connection(("127.0.0.1", port), 30)


def test_people_come_in_over_tls(behind):
    visit = Visit(behind)
    door = visit.sign_in()
    assert "Secure" in door.headers["Set-Cookie"]
    assert door.headers["Strict-Transport-Security"]
    page = visit.ask("GET", "/account").text
    assert "127.0.0.1" in page
    token = re.search(r'csrf-token" content="([^"]+)"', page).group(1)
    foreign = visit.ask("POST", "/jobs", {"title": "x"}, Origin="https://elsewhere.example", **{"X-CSRFToken": token})
    assert foreign.status == 403
    ours = visit.ask("POST", "/jobs", {"title": "x"}, Origin=f"https://{HOST}", **{"X-CSRFToken": token})
    assert ours.status == 200


def test_nobody_brings_an_address_of_their_own(behind):
    """Tries are counted by where they come from: whoever could choose that could try for ever."""
    visit = Visit(behind)
    token = re.search(r'csrf_token" value="([^"]+)"', visit.ask("GET", "/sign-in").text).group(1)
    statuses = [
        visit.ask(
            "POST",
            "/sign-in",
            {"csrf_token": token, "name": "Guessed", "password": f"a guess, number {number}"},
            Origin=f"https://{HOST}",
            **{"X-Forwarded-For": f"203.0.113.{number}", "X-Forwarded-Host": "elsewhere.example"},
        ).status
        for number in range(7)
    ]
    assert statuses == [401] * 5 + [429] * 2


def test_without_a_certificate_that_fits_nobody_comes_in(behind):
    port, certificate = behind
    context = ssl.create_default_context(cafile=certificate)
    with pytest.raises(ssl.SSLCertVerificationError), _connected(port) as plain:
        context.wrap_socket(plain, server_hostname="elsewhere.example")


def test_of_two_web_servers_either_may_go_and_nobody_is_signed_out(live, tmp_path):
    ports = [free_port(), free_port()]
    before = _of_manual("machines")
    for told, port in zip(("192.0.2.11:8417", "192.0.2.12:8417"), ports, strict=True):
        assert told in before
        before = before.replace(told, f"127.0.0.1:{port}")
    servers = [_web(live, port) for port in ports]
    try:
        with _proxy(tmp_path, "http://levels", before) as place:
            visit = Visit(place)
            visit.sign_in()
            for at, port in enumerate(ports):
                servers[at].kill()
                servers[at].wait()
                page = wait_for(lambda: _found(visit.ask("GET", "/account")), 30)
                token = re.search(r'csrf-token" content="([^"]+)"', page.text).group(1)
                told = {"Origin": f"https://{HOST}", "X-CSRFToken": token, "Accept": "application/json"}
                assert visit.ask("POST", "/jobs", {"title": f"Without {at}"}, **told).status == 200
                servers[at] = _web(live, port)
    finally:
        for each in servers:
            each.kill()
            each.wait()


def _found(answer):
    return answer if answer.status == 200 else None


def _web(live, port):
    """One more web server over the same studio."""
    given = live.environment_of(live.worker_pid())
    environment = {**os.environ, **given, "NICE_LEVEL_PORT": str(port)}
    running = subprocess.Popen([sys.executable, "-m", "nicelevel.cli.main", "web"], env=environment)
    wait_for_port(port)
    return running
