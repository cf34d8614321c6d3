"""Rendering against ffmpeg, as ratios in one run: wall time of whole processes on two cores, three pairs, the median.

Ours measures the source, plans, renders and proves what was written; ffmpeg's volume, alimiter, soxr at its highest
precision and triangular dither do neither the first nor the last. For lossy files ffmpeg encodes and measures once.
"""

import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Sequence
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

from bench.specs import limited_spec
from tests import signals

MINUTES, PAIRS, FILES = 10, 3, 8
SHORT_S = 120
LENGTHS_S = (MINUTES * 60, SHORT_S)
OURS = [str(Path(sys.executable).with_name("nice-level")), "render", "--json", "--replace", "--jobs", "1"]
FFMPEG = ["ffmpeg", "-y", "-nostats", "-loglevel", "error", "-i"]

WAVE = 'container = "wav"\nencoding = "pcm_16"\nsample_rate = 44100\ndither = "tpdf"'
MP3 = 'container = "mp3"\nencoding = "mp3"\nsample_rate = 44100\nbitrate_kbps = 192'
AAC = 'container = "m4a"\nencoding = "aac"\nbitrate_kbps = 192'

LEVEL = "volume=4dB,alimiter=limit=0.89:level=false"
RESAMPLE = "aresample=44100:resampler=soxr:precision=28"
Command = list[str | Path]

METER = ["-filter_complex", "ebur128=peak=true", "-f", "null", "-"]


def main() -> None:
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        path = signals.write(folder / "long.wav", 0.5 * signals.programme(MINUTES * 60, seed=1))
        print(f"{MINUTES} minutes of 48 kHz, 24 bit, stereo to −16 LUFS, limited | ffmpeg, s | ours, s | ratio")
        dithered: Command = [*FFMPEG, path, "-af", f"{LEVEL},{RESAMPLE}:osf=s16:dither_method=triangular"]
        compare("44.1 kHz, 16 bit, TPDF", WAVE, folder, path, [[*dithered, folder / "f.wav"]])
        encoded: Command = [*FFMPEG, path, "-af", f"{LEVEL},{RESAMPLE}", "-b:a", "192k", folder / "f.mp3"]
        compare("MP3 192 kbit/s", MP3, folder, path, [encoded, [*FFMPEG, folder / "f.mp3", *METER]])
        encoded = [*FFMPEG, path, "-af", LEVEL, "-b:a", "192k", folder / "f.m4a"]
        compare("AAC 192 kbit/s", AAC, folder, path, [encoded, [*FFMPEG, folder / "f.m4a", *METER]])
        side_by_side(folder)
        for length_s in LENGTHS_S:
            together(folder, length_s)


def together(folder: Path, length_s: int) -> None:
    """Eight files on two cores, two side by side, against one after the other on one."""
    paths = [signals.write(folder / f"{n}.wav", 0.5 * signals.programme(length_s, seed=n)) for n in range(FILES)]
    (folder / "bench.toml").write_text(limited_spec(WAVE))
    ours: Command = [*OURS[:-1], "2", *paths, "--spec", folder / "bench.toml", "--out", folder / "out"]
    one = [*OURS[:-1], "1", *ours[len(OURS) :]]
    pairs = [(seconds(["taskset", "-c", "0", *one]), seconds(ours)) for _ in range(PAIRS)]
    alone_s, together_s = (statistics.median(column) for column in zip(*pairs, strict=True))
    ratio = statistics.median(one_s / two_s for one_s, two_s in pairs)
    print(f"{FILES} files of {length_s} s: one core {alone_s:.1f} s, side by side {together_s:.1f} s, {ratio:.2f}×")


def side_by_side(folder: Path) -> None:
    """Eight files of two minutes: one command of ours on two cores against as many of ffmpeg's, two at a time."""
    paths = [signals.write(folder / f"{n}.wav", 0.5 * signals.programme(SHORT_S, seed=n)) for n in range(FILES)]
    (folder / "bench.toml").write_text(limited_spec(WAVE))
    ours: Command = [*OURS[:-1], "2", *paths, "--spec", folder / "bench.toml", "--out", folder / "out"]
    shaped = ["-af", f"{LEVEL},{RESAMPLE}:osf=s16:dither_method=triangular"]
    theirs = [[*FFMPEG, path, *shaped, path.with_suffix(".f.wav")] for path in paths]

    def all_of_theirs() -> float:
        start = time.perf_counter()
        with ThreadPoolExecutor(2) as pool:
            list(pool.map(seconds, theirs))
        return time.perf_counter() - start

    pairs = [(all_of_theirs(), seconds(ours)) for _ in range(PAIRS)]
    their_s, our_s = (statistics.median(column) for column in zip(*pairs, strict=True))
    ratio = statistics.median(their / our for their, our in pairs)
    print(f"{FILES} files of {SHORT_S} s | {their_s:.1f} | {our_s:.1f} | {ratio:.2f}×", flush=True)


def compare(name: str, wanted: str, folder: Path, path: Path, theirs: Sequence[Sequence[str | Path]]) -> None:
    spec = folder / "bench.toml"
    spec.write_text(limited_spec(wanted))
    pairs = []
    for _ in range(PAIRS):
        their_s = sum(seconds(command) for command in theirs)
        pairs.append((their_s, seconds([*OURS, path, "--spec", spec, "--out", folder / "out"])))
    their_s, our_s = (statistics.median(column) for column in zip(*pairs, strict=True))
    ratio = statistics.median(their / our for their, our in pairs)
    print(f"{name} | {their_s:.1f} | {our_s:.1f} | {ratio:.2f}×", flush=True)


def seconds(command: Sequence[str | Path]) -> float:
    start = time.perf_counter()
    subprocess.run(command, stdout=subprocess.DEVNULL, check=True)
    return time.perf_counter() - start


if __name__ == "__main__":
    main()
