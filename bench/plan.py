"""How long plans take: a cell by gain, a limited cell, a column of a hundred; ten-minute sources on one core.

Plans are made from what the store would hand over: a reading with its curves, and hops that are read from the disk.
"""

import os
import statistics
import tempfile
import time
from pathlib import Path

from nicelevel.core.plan import plan
from nicelevel.core.prepare import Measured, prepare
from nicelevel.core.specs import Spec, parse_spec
from tests import signals

MINUTES, TIMES, COLUMN = 10, 15, 100


def main() -> None:
    os.sched_setaffinity(0, {0})
    with tempfile.TemporaryDirectory() as folder:
        path = signals.write(Path(folder) / "long.wav", 0.5 * signals.programme(MINUTES * 60, seed=1))
        prepared = prepare(path, hops_folder=Path(folder))
    reading = prepared.reading
    room_lu = -1.0 - reading.true_peak_dbtp + reading.integrated_lufs
    print(f"one cell, {MINUTES} minutes of stereo | plan | ms, median | limited, share of time")
    for name, target in (
        ("by gain", room_lu - 3.0),
        *((f"{deep} dB of limiting", room_lu + deep) for deep in (1, 3, 6)),
    ):
        spec = spec_for(target)
        found = cell(prepared, spec)
        took = [timed(prepared, spec) for _ in range(TIMES)]
        share = found.limiting.share_ratio if found.limiting else 0.0
        print(f"{name} | {found.action} | {1000 * statistics.median(took):.2f} | {100 * share:.1f} %")
    start = time.perf_counter()
    for number in range(COLUMN):
        cell(fresh(prepared), spec_for(room_lu - 3.0 + 6.0 * number / COLUMN))
    print(f"a column of {COLUMN}, half of it limited | | {1000 * (time.perf_counter() - start):.0f} |")


def spec_for(target_lufs: float) -> Spec:
    return parse_spec(
        f'[spec]\nname = "Bench"\n[loudness]\ntarget = {target_lufs:.2f}\ntolerance = 0.5\n'
        '[limits]\nmax_true_peak_dbtp = -1.0\n[method]\nallow = "limiter"\n'
        '[[formats]]\ncontainer = "wav"\nencoding = "pcm_24"\n',
        "bench",
    )


def cell(prepared: Measured, spec: Spec):
    return plan(prepared.reading.source, lambda _: prepared, spec)


def fresh(prepared: Measured) -> Measured:
    """The same signal, with nothing remembered of it."""
    return Measured(prepared.reading, prepared.chain, prepared.hops)


def timed(prepared: Measured, spec: Spec) -> float:
    once = fresh(prepared)
    start = time.perf_counter()
    cell(once, spec)
    return time.perf_counter() - start


if __name__ == "__main__":
    main()
