"""Bars are drawn where somebody looks at them, and cost nothing elsewhere."""

import contextlib
import os
import pty
import subprocess
import sys

SHOW = """
import sys
from nicelevel.cli.bars import progress_bars
with progress_bars() as bar, bar("mix.wav") as progress:
    if progress:
        progress(0.5)
print(progress is not None, "rich" in sys.modules)
"""


def _run(stderr):
    return subprocess.run([sys.executable, "-c", SHOW], stdout=subprocess.PIPE, stderr=stderr, text=True, check=True)


def _shown(screen):
    """All that came to it: in as many pieces as it was drawn in."""
    with contextlib.suppress(OSError):  # nobody is at the other end any more
        while piece := os.read(screen, 1 << 16):
            yield piece


def test_on_a_terminal_a_bar_has_the_name_of_its_file():
    screen, terminal = pty.openpty()
    answer = _run(terminal)
    os.close(terminal)
    assert answer.stdout == "True True\n"
    assert b"mix.wav" in b"".join(_shown(screen))
    os.close(screen)


def test_elsewhere_nothing_is_drawn_or_loaded():
    answer = _run(subprocess.PIPE)
    assert (answer.stdout, answer.stderr) == ("False False\n", "")
