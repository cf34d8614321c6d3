"""The largest memory that measuring a long file takes: three hours of 96 kHz, 24 bit, stereo, as RF64.

The file is written sparse where the file system allows it: a minute of programme every ten, silence between.
"""

import json
import os
import subprocess
import sys
import tempfile
import time
from pathlib import Path

HOURS, RATE_HZ = 3, 96_000
OURS = [str(Path(sys.executable).with_name("nice-level")), "measure", "--json", "--jobs", "1"]


def main() -> None:
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "long.wav"
        # By a process of its own: a child's largest memory includes that of the parent it was forked from.
        subprocess.run([sys.executable, "-m", "bench.memory", str(path)], check=True)
        start = time.perf_counter()
        with (Path(folder) / "answer.json").open("w+b") as answer:
            process = subprocess.Popen([*OURS, str(path)], stdout=answer)
            _, status, usage = os.wait4(process.pid, 0)
            assert status == 0
            answer.seek(0)
            facts = json.loads(answer.read())
        print(f"{facts['container']}, {facts['duration_s'] / 3600:.2f} h, {facts['size_bytes'] / 1e9:.2f} GB")
        # Linux counts in KiB.
        most_mb = usage.ru_maxrss * 1024 / 1e6
        print(f"measured in {time.perf_counter() - start:.1f} s, largest memory {most_mb:.0f} MB")


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
