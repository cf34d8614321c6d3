"""The example of a program, docs/client.py, against a Nice Level that runs: at one machine, and with a token."""

import os
import subprocess
import sys
from pathlib import Path

import pytest
import soundfile

from tests import signals
from tests.conftest import Live
from tests.web.signing_in import PASSWORD

ROOT = Path(__file__).parents[2]


@pytest.mark.parametrize(("accounts", "spec"), [("no", "compact-disc"), ("yes", "european-broadcast")])
def test_files_go_in_and_proved_ones_come_out(tmp_path, accounts, spec):
    """For a disc they are resampled before they can be planned."""
    running = Live(tmp_path, settings={"ACCOUNTS": accounts})
    try:
        running.command(["user", "add", "One", "--role", "engineer", "--password-stdin"], PASSWORD)
        token = running.command(["user", "token", "One", "--for", "the night"]).strip()
        paths = [signals.write(tmp_path / f"{name}.wav", signals.programme(6, seed=2)) for name in ("mix", "other")]
        words = ["-m", "docs.client", running.address, *map(str, paths), "--spec", spec]
        environment = {**os.environ, "NICE_LEVEL_TOKEN": token if accounts == "yes" else ""}
        command = [sys.executable, *words, "--out", str(tmp_path / "out")]
        done = subprocess.run(command, cwd=ROOT, env=environment, capture_output=True, text=True, timeout=120)
        assert done.returncode == 0, done.stderr
        written = sorted((tmp_path / "out").iterdir())
        assert [str(each) for each in written] == sorted(done.stdout.split("\n")[:-1])
        assert [soundfile.info(each).duration for each in written] == [6.0, 6.0]
        if accounts == "yes":
            wrong = {**environment, "NICE_LEVEL_TOKEN": "nl_guessed"}
            refused = subprocess.run(command, cwd=ROOT, env=wrong, capture_output=True, text=True, timeout=60)
            assert (refused.returncode, "signed out" in refused.stderr) == (1, True)
    finally:
        running.stop()
