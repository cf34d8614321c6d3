"""Machines of a rack: a network namespace each, with a disk and a clock of its own, wired through one switch.

What runs on one of them reaches the others by their addresses alone, and this machine's own network not at all. Any
two can be cut off from each other without a word, as when a cable is pulled between two switches.
"""

import os
import shutil
import signal
import subprocess
import sys
from contextlib import ExitStack, suppress
from pathlib import Path

import pytest

from nicelevel.run.cluster import Cluster, newest_program
from tests.conftest import wait_for_port
from tests.faults.hands import descendants, tell

NETWORK = "10.77.0"
NOWHERE = "02:00:00:00:00:fe"
"""A network card that nobody has."""

PASSWORD = "of-the-rack"
PYTHON = sys.executable

DOORWAY = """
import socket, sys, threading
from ctypes import CDLL
door = socket.create_server(("127.0.0.1", int(sys.argv[1])))
inside = open(sys.argv[2])
assert CDLL(None).setns(inside.fileno(), 0) == 0
def carry(here, there):
    try:
        while data := here.recv(65536):
            there.sendall(data)
    except OSError:
        pass
    for each in (here, there):
        try:
            each.shutdown(socket.SHUT_RDWR)
        except OSError:
            pass
while True:
    here, _ = door.accept()
    try:
        there = socket.create_connection(("127.0.0.1", int(sys.argv[3])), timeout=30)
    except OSError:
        here.close()
        continue
    there.settimeout(None)
    for pair in ((here, there), (there, here)):
        threading.Thread(target=carry, args=pair, daemon=True).start()
"""
"""Listens on this machine's loopback and goes through to that of a machine of the rack."""


def _run(*words: str) -> None:
    subprocess.run(words, check=True, capture_output=True)


CLOCK = """
import os, time, time_machine
time_machine.travel(time.time() + float(os.environ["RACK_CLOCK_S"]), tick=True).start()
"""
"""Loaded by every Python of a machine whose clock is off."""


class Machine:
    """One machine: what runs on it, where its files are, how far its clock is off."""

    def __init__(self, rack: "Rack", name: str, number: int, clock_s: int, folder: Path) -> None:
        self.name, self.address, self._clock_s = name, f"{NETWORK}.{number}", clock_s
        self.netns, self.disk = f"{rack.name}-{name}", folder / name
        self.disk.mkdir()
        self._log, self._clock = folder / f"{name}.log", folder / "clock"
        self._clock.mkdir(exist_ok=True)
        (self._clock / "sitecustomize.py").write_text(CLOCK)
        self._running: list[subprocess.Popen[bytes]] = []

    def start(self, *command: str, settings: dict[str, str] | None = None) -> "subprocess.Popen[bytes]":
        """Start a program on it."""
        clock = {"PYTHONPATH": str(self._clock), "RACK_CLOCK_S": str(self._clock_s)} if self._clock_s else {}
        environment = {**os.environ, **clock, **(settings or {})}
        with self._log.open("ab") as log:
            words = ["ip", "netns", "exec", self.netns, *command]
            running = subprocess.Popen(words, env=environment, stdout=log, stderr=log, start_new_session=True)
        self._running.append(running)
        return running

    def log(self) -> str:
        return self._log.read_text(errors="replace") if self._log.exists() else ""

    def pids(self) -> list[int]:
        return [pid for each in self._running if each.poll() is None for pid in descendants(each.pid)]

    def suspend(self) -> None:
        tell(self.pids(), signal.SIGSTOP)

    def resume(self) -> None:
        tell(self.pids(), signal.SIGCONT)

    def stop(self) -> None:
        self.resume()
        tell(self.pids(), signal.SIGTERM)
        for each in self._running:
            with suppress(subprocess.TimeoutExpired):
                each.wait(10)
        tell(self.pids(), signal.SIGKILL)


class Rack:
    """The machines and the switch between them. Left out where nobody may make a network."""

    def __init__(self, folder: Path) -> None:
        self.name, self._folder = f"rack{os.getpid()}", folder
        self.machines: dict[str, Machine] = {}
        self._stack = ExitStack()
        self._netns(f"{self.name}-switch")
        self._on("switch", "link", "add", "switch", "type", "bridge")
        self._on("switch", "link", "set", "switch", "up")

    def _netns(self, name: str) -> None:
        if subprocess.run(["ip", "netns", "add", name], capture_output=True).returncode:
            pytest.skip("no network can be made here")
        self._stack.callback(subprocess.run, ["ip", "netns", "delete", name], capture_output=True)

    def _on(self, machine: str, *words: str) -> None:
        _run("ip", "-n", f"{self.name}-{machine}", *words)

    def add(self, name: str, clock_s: int = 0) -> Machine:
        """One more machine. clock_s: how far its clock is ahead."""
        made = Machine(self, name, len(self.machines) + 1, clock_s, self._folder)
        self._netns(made.netns)
        self._stack.callback(made.stop)
        wire = f"to-{name}"
        _run(
            *("ip", "link", "add", "wire", "netns", made.netns, "type", "veth"),
            *("peer", "name", wire, "netns", f"{self.name}-switch"),
        )
        self._on("switch", "link", "set", wire, "master", "switch", "up")
        self._on(name, "address", "add", f"{made.address}/24", "dev", "wire")
        self._on(name, "link", "set", "wire", "up")
        self._on(name, "link", "set", "lo", "up")
        self.machines[name] = made
        return made

    def cut(self, one: str, other: str) -> None:
        """From now on nothing that one sends reaches the other, and neither is told."""
        for here, there in ((one, other), (other, one)):
            address = self.machines[there].address
            self._on(here, *f"neigh replace {address} lladdr {NOWHERE} nud permanent dev wire".split())

    def heal(self, one: str, other: str) -> None:
        for here, there in ((one, other), (other, one)):
            self._on(here, *f"neigh del {self.machines[there].address} dev wire".split())

    def start_database(self, machine: Machine) -> str:
        """PostgreSQL on a machine, for the whole rack; its URL."""
        folder = machine.disk / "postgres"
        cluster = Cluster(folder, PASSWORD)
        cluster.start()
        cluster.stop()
        with (folder / "pg_hba.conf").open("a") as rules:
            rules.write(f"host all all {NETWORK}.0/24 scram-sha-256\n")
        reached = f"{machine.address},127.0.0.1"
        told = {"listen_addresses": reached, "unix_socket_directories": "", "max_connections": "100"}
        settings = [part for name, value in told.items() for part in ("-c", f"{name}={value}")]
        server = ["setpriv", "--reuid=postgres", "--regid=postgres", "--init-groups"]
        server += ["--inh-caps=+dac_read_search", "--ambient-caps=+dac_read_search"]
        machine.start(*server, str(newest_program("postgres")), "-D", str(folder), *settings)
        return f"postgresql://nice_level:{PASSWORD}@{machine.address}:5432/nice_level"

    def doorway(self, machine: Machine, port: int, inside: int) -> None:
        """Have a port of this machine's loopback lead to one of a machine's."""
        place = f"/run/netns/{machine.netns}"
        going = subprocess.Popen([PYTHON, "-c", DOORWAY, str(port), place, str(inside)])
        self._stack.callback(going.kill)
        wait_for_port(port)

    def told(self) -> str:
        """What runs on each, and the last that it said."""
        return "\n".join(
            f"{name}, {[each.poll() for each in machine._running]}: {machine.log()[-1500:]}"
            for name, machine in self.machines.items()
        )

    def stop(self) -> None:
        for each in self.machines.values():
            each.resume()
        self._stack.close()
        for each in self.machines.values():
            shutil.rmtree(each.disk, ignore_errors=True)
