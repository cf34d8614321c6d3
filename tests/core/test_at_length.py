"""Every writer at length, under the C library's own heap checker: a native library that aborts takes its process.

Each runs in a process of its own. `make soak` writes ten minutes; here it is as long as the faults that were found
needed (half a minute).
"""

import itertools
import os
import subprocess
import sys
from pathlib import Path

import pytest

from nicelevel.core.channels import layout_from_count
from nicelevel.core.files.containers import unwritable
from nicelevel.core.values import OutputFormat

SECONDS = int(os.environ.get("NICE_LEVEL_AT_LENGTH_S", "40"))
CHECKER = Path("/usr/lib/x86_64-linux-gnu/libc_malloc_debug.so.0")
"""glibc: malloc(3), GLIBC_TUNABLES=glibc.malloc.check=3 ends the process at the first damage."""

WRITE = """
import sys
from pathlib import Path
import numpy as np
from nicelevel.core.channels import layout_from_count
from nicelevel.core.files import open_sink, take_in
from nicelevel.core.values import OutputFormat

container, encoding, lossless, kbps, rate, channels, seconds, path = sys.argv[1:]
output = OutputFormat(
    container, encoding, int(rate), layout_from_count(int(channels)), "none",
    float(kbps) or None, lossless=lossless or None,
)
generator = np.random.default_rng(1)
frames = int(rate) * int(seconds) + 4097
sink = open_sink(Path(path), output, frames, seed=5)
for first in range(0, frames, 65536):
    shape = (min(65536, frames - first), int(channels))
    block = generator.uniform(-1.0, 1.0, shape) * (0.001 if first // 65536 % 3 == 0 else 1.0)
    if output.bits:
        most = 2 ** (output.bits - 1) - 1
        block = np.round(block * most).astype(np.int32)
    sink.write(block)
sink.close()
with take_in(Path(path)) as audio:
    # AC-3 has no place for its length: it ends with a whole frame.
    assert 0 <= audio.source.frames - frames <= (1536 + 256 if container == "ac3" else 0), audio.source.frames
    assert sum(len(block) for block in audio.blocks(65536)) == audio.source.frames
"""

PCM = ("pcm_16", "pcm_24", "pcm_32", "float_32", "float_64")
KINDS = [
    *((container, encoding, "", 0, 48_000) for container in ("wav", "aiff", "caf") for encoding in PCM),
    *(("flac", encoding, "flac", 0, 48_000) for encoding in ("pcm_16", "pcm_24")),
    *((container, encoding, "alac", 0, 48_000) for container in ("m4a", "caf") for encoding in ("pcm_16", "pcm_24")),
    ("mp3", "mp3", "", 192, 44_100),
    ("m4a", "aac", "", 192, 48_000),
    ("ogg", "vorbis", "", 192, 44_100),
    ("ogg", "opus", "", 192, 48_000),
    ("ac3", "ac3", "", 384, 48_000),
]


def _is_written(kind, channels):
    container, encoding, lossless, kbps, rate = kind
    layout = layout_from_count(channels)
    return (
        unwritable(OutputFormat(container, encoding, rate, layout, "none", kbps or None, lossless=lossless or None))
        is None
    )


@pytest.mark.parametrize("kind", KINDS, ids=lambda kind: "-".join(filter(None, kind[:3])))
def test_a_writer_keeps_to_its_memory(kind, tmp_path):
    asked = [channels for channels in range(1, 9) if _is_written(kind, channels)]
    assert asked
    environment = dict(os.environ)
    if CHECKER.exists():
        environment |= {
            "LD_PRELOAD": str(CHECKER),
            "GLIBC_TUNABLES": "glibc.malloc.check=3",
            "MALLOC_PERTURB_": "165",
        }
    for channels in asked if SECONDS > 100 else sorted({asked[0], *asked[1:2], asked[-1]}):
        arguments = [*map(str, kind), str(channels), str(SECONDS), str(tmp_path / "file")]
        done = subprocess.run(
            [sys.executable, "-c", WRITE, *arguments], env=environment, capture_output=True, text=True
        )
        assert done.returncode == 0, (channels, done.returncode, done.stderr[-2000:])


@pytest.mark.parametrize(("channels", "frames"), [*itertools.product((1, 2, 6), (1, 2, 3, 15, 16, 17, 4097, 4098))])
def test_alac_of_any_length_is_whole(channels, frames, tmp_path):
    """FFmpeg's encoder aborts at six channels and a last frame of one or two samples, unless it is filled up."""
    code = WRITE.replace("int(rate) * int(seconds) + 4097", str(frames))
    arguments = ["m4a", "pcm_24", "alac", "0", "48000", str(channels), "0", str(tmp_path / "file")]
    done = subprocess.run([sys.executable, "-c", code, *arguments], capture_output=True, text=True)
    assert done.returncode == 0, done.stderr[-2000:]
