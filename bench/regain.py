"""The level of an hour of MP3 without re-encoding, as a ratio to decoding it once."""

import tempfile
import time
from pathlib import Path

import numpy as np

from nicelevel.core.channels import layout_from_count
from nicelevel.core.files import open_sink, take_in
from nicelevel.core.mp3 import Wish, regain
from nicelevel.core.values import OutputFormat
from tests import signals

RATE_HZ, MINUTES, TURNS = 44_100, 60, 3
BLOCK_FRAMES = 1 << 17


def _hour(folder: Path) -> Path:
    path = folder / "hour.mp3"
    minute = 0.5 * signals.programme(60, rate=RATE_HZ, seed=1).astype(np.float32)
    sink = open_sink(
        path, OutputFormat("mp3", "mp3", RATE_HZ, layout_from_count(2), "none", 128.0), MINUTES * len(minute)
    )
    for _ in range(MINUTES):
        sink.write(minute)
    sink.close()
    return path


def _decoding_s(path: Path) -> float:
    start = time.perf_counter()
    with take_in(path) as audio:
        for _ in audio.blocks(BLOCK_FRAMES):
            pass
    return time.perf_counter() - start


def _regain_s(path: Path, folder: Path) -> float:
    start = time.perf_counter()
    regain(path, folder, Wish(gain_db=-3.0))
    return time.perf_counter() - start


def main() -> None:
    """In turns, the best of three of each."""
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        path = _hour(folder)
        both = [(_decoding_s(path), _regain_s(path, folder / str(turn))) for turn in range(TURNS)]
        decoding_s, regain_s = (min(each) for each in zip(*both, strict=True))
        print(f"decoding an hour of MP3: {decoding_s:.1f} s; its level without re-encoding: {regain_s:.2f} s")
        print(f"ratio {regain_s / decoding_s:.3f} (asked: 0.1)")


if __name__ == "__main__":
    main()
