"""Measuring against other meters, as ratios in one run: whole processes on one core, in pairs, the median of five.

Ours reads everything there is in a Reading; the others loudness and true peak alone. What counts is the processor's
time, which other programs on the machine change least; and each of theirs runs between two of ours, for the speed of
a shared machine moves by half within a minute.
"""

import os
import statistics
import subprocess
import sys
import tempfile
from collections.abc import Sequence
from pathlib import Path

from tests import signals

MINUTES, PAIRS, CORE = 10, 5, 0
OURS = [str(Path(sys.executable).with_name("nice-level")), "measure", "--json", "--jobs", "1"]
FFMPEG = ["ffmpeg", "-nostats", "-loglevel", "error", "-i"]
FFMPEG_METER = ["-filter_complex", "ebur128=peak=true", "-f", "null", "-"]
LIBEBUR128 = [sys.executable, "-m", "bench.libebur128"]


def main() -> None:
    with tempfile.TemporaryDirectory() as folder:
        long = signals.write(Path(folder) / "long.wav", 0.5 * signals.programme(MINUTES * 60, seed=1))
        short = signals.write(Path(folder) / "short.wav", signals.noise(0.5))
        os.sync()  # what was just written must not still be on its way to the disk while others are timed
        seconds([*OURS, str(long)])
        others = {
            "ffmpeg ebur128=peak=true": [*FFMPEG, str(long), *FFMPEG_METER],
            "libebur128": [*LIBEBUR128, str(long)],
        }
        print(
            f"{MINUTES} minutes of 48 kHz, 24 bit, stereo | theirs, s | ours, s | start-up, s | ratio less start-up"
        )
        for name, command in others.items():
            pairs = [pair(command, [*OURS, str(long)], [*OURS, str(short)]) for _ in range(PAIRS)]
            theirs, ours, start_up = (statistics.median(column) for column in zip(*pairs, strict=True))
            ratio = statistics.median(each[0] / (each[1] - each[2]) for each in pairs)
            print(f"{name} | {theirs:.2f} | {ours:.2f} | {start_up:.2f} | {ratio:.1f}×", flush=True)


def pair(theirs: Sequence[str], ours: Sequence[str], start_up: Sequence[str]) -> tuple[float, float, float]:
    """Seconds of the other, of ours around it, and of our start-up around it."""
    before = seconds(ours), seconds(start_up)
    between = seconds(theirs)
    after = seconds(ours), seconds(start_up)
    return between, (before[0] + after[0]) / 2, (before[1] + after[1]) / 2


def seconds(command: Sequence[str]) -> float:
    """Processor time of a whole process on one core."""
    process = subprocess.Popen(command, stdout=subprocess.DEVNULL, preexec_fn=lambda: os.sched_setaffinity(0, {CORE}))
    _, status, usage = os.wait4(process.pid, 0)
    if status:
        raise RuntimeError(f"{command[0]} failed")
    return usage.ru_utime + usage.ru_stime


if __name__ == "__main__":
    main()
