"""The largest memory that measuring and rendering a long file take: three hours of 96 kHz, 24 bit, stereo, as RF64.

The file is written sparse where the file system allows it: a minute of programme every ten, silence between.
"""

import json
import os
import subprocess
import sys
import tempfile
import time
from collections.abc import Sequence
from pathlib import Path
from typing import Any

from bench.specs import limited_spec

HOURS, RATE_HZ = 3, 96_000
OURS = [str(Path(sys.executable).with_name("nice-level"))]
PCM_24 = 'container = "wav"\nencoding = "pcm_24"\nsample_rate = 48000'


def main() -> None:
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "long.wav"
        # By a process of its own: a child's largest memory includes that of the parent it was forked from.
        subprocess.run([sys.executable, "-m", "bench.memory", str(path)], check=True)
        answer, took_s, most_mb = run([*OURS, "measure", "--json", "--jobs", "1", str(path)], Path(folder))
        print(f"{answer['container']}, {answer['duration_s'] / 3600:.2f} h, {answer['size_bytes'] / 1e9:.2f} GB")
        print(f"measured in {took_s:.1f} s, largest memory {most_mb:.0f} MB")
        spec = Path(folder) / "limited.toml"
        spec.write_text(limited_spec(PCM_24, -14.0))
        rendering = [*OURS, "render", "--json", "--jobs", "1", str(path), "--spec", str(spec), "--out", folder]
        answer, took_s, most_mb = run(rendering, Path(folder))
        made = answer["outputs"][0]
        print(
            f"to 48 kHz, {made['action']} by {made['limiting_db']:.1f} dB, read back, {made['verdict']}: "
            f"in {took_s:.1f} s, largest memory {most_mb:.0f} MB"
        )


def run(command: Sequence[str], folder: Path) -> tuple[dict[str, Any], float, float]:
    """What a command answers, its seconds, and its largest memory in MB."""
    start = time.perf_counter()
    with (folder / "answer.json").open("w+b") as answer:
        process = subprocess.Popen(command, stdout=answer)
        _, status, usage = os.wait4(process.pid, 0)
        assert status == 0
        answer.seek(0)
        # Linux counts in KiB.
        return json.loads(answer.read()), time.perf_counter() - start, usage.ru_maxrss * 1024 / 1e6


def write_long(path: Path) -> None:
    """The file, without writing what is silent."""
    # Loaded only here: the process that measures the other's memory stays small.
    import numpy as np

    from nicelevel.core.channels import layout_from_count
    from nicelevel.core.files.wave_header import wave_header
    from nicelevel.core.files.write import packed
    from nicelevel.core.values import OutputFormat
    from tests import signals

    output = OutputFormat("wav", "pcm_24", RATE_HZ, layout_from_count(2), "none")
    frames = HOURS * 3600 * RATE_HZ
    minute = np.rint(0.4 * signals.programme(60, RATE_HZ, seed=1) * 2**23).astype(np.int32)
    with path.open("wb") as file:
        head = wave_header(output, frames * 6)
        file.write(head)
        for start in range(0, frames - 60 * RATE_HZ, 600 * RATE_HZ):
            file.seek(len(head) + start * 6)
            file.write(packed(minute, output))
        file.truncate(len(head) + frames * 6)


if __name__ == "__main__":
    write_long(Path(sys.argv[1])) if len(sys.argv) > 1 else main()
