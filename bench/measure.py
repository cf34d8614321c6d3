"""Measuring against other meters, as ratios in one run: whole processes on one core, in pairs, the median of five.

Ours reads everything there is in a Reading; the others loudness and true peak alone.
"""

import os
import statistics
import subprocess
import sys
import tempfile
import time
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
        start_up_s = statistics.median([seconds([*OURS, str(short)]) for _ in range(PAIRS)])
        print(f"start-up of the command: {start_up_s:.2f} s\n")
        print(f"{MINUTES} minutes of 48 kHz, 24 bit, stereo | theirs, s | ours less start-up, s | ratio")
        others = {
            "ffmpeg ebur128=peak=true": [*FFMPEG, str(long), *FFMPEG_METER],
            "libebur128": [*LIBEBUR128, str(long)],
        }
        for name, command in others.items():
            pairs = [(seconds(command), seconds([*OURS, str(long)]) - start_up_s) for _ in range(PAIRS)]
            theirs, ours = (statistics.median(column) for column in zip(*pairs, strict=True))
            print(f"{name} | {theirs:.2f} | {ours:.2f} | {statistics.median([a / b for a, b in pairs]):.1f}×")


def seconds(command: list[str]) -> float:
    """Time of a whole process on one core."""
    start = time.perf_counter()
    subprocess.run(command, check=True, stdout=subprocess.DEVNULL, preexec_fn=lambda: os.sched_setaffinity(0, {CORE}))
    return time.perf_counter() - start


if __name__ == "__main__":
    main()
